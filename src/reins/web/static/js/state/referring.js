// @ts-check
// A finished recording beside the mix: as loud as the mix, heard in its place by one key.

import * as api from "../api.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const referring = (kit, state) => ({
  heard: false,
  measuring: false,
  gainDb: 0,
  said: "", // how loud both are
  measured: "", // of what: the step and the reference

  get kept() { return state.desk.document.reference; },
  get word() { return this.measuring ? "measuring …" : this.heard ? "Hear the mix" : "Hear it"; },

  /** Another recording beside the mix. @param {HTMLInputElement} field */
  bringIn(field) {
    const [file] = field.files ?? [];
    if (!file) return;
    state.files.send(file, (percent) => api.bringInReference(state.desk.session.id, file, percent)).then((job) => {
      if (job?.state === "done") state.keeping.tell(job.result.said || "The reference lies beside the mix: R hears it, R again the mix.");
    });
  },
  async remove() {
    this.leave();
    await state.editing.change({ kind: "remove_reference" });
  },

  /** From the mix to the reference and back. It is heard once it is known how loud it has to be. */
  async swap() {
    if (this.measuring || state.blinding.test) return;
    if (!this.kept) {
      state.hearing.more = true;
      state.keeping.complain("There is no reference yet: bring one in here.");
      return;
    }
    if (this.heard) return this.leave();
    this.measuring = true;
    await this.measure();
    this.measuring = false;
    if (!this.measured) return;
    this.heard = true;
    state.hearing.tellListening();
  },
  leave() {
    if (!this.heard) return;
    this.heard = false;
    state.hearing.tellListening();
  },
  /** How much louder it must be; asked once for each step. */
  async measure() {
    const wanted = `${state.desk.session.step} ${this.kept?.take_id}`;
    if (wanted === this.measured) return;
    this.measured = "";
    const number = (kit.referenceNumber = (kit.referenceNumber ?? 0) + 1);
    const body = { desk: kit.previews.desk, number };
    const { made: told, problem } = await api.orProblem(() => api.referenceGain(state.desk.session.id, body));
    if (problem && number === kit.referenceNumber) state.keeping.complain(problem);
    if (!told || number !== kit.referenceNumber) return;
    const by = `${told.gain_db < 0 ? "−" : "+"}${Math.abs(told.gain_db).toFixed(1)}`;
    Object.assign(this, { gainDb: told.gain_db, measured: wanted, said: `${by} dB, so that it is as loud as the mix` });
  },
  /** The session has changed: what is heard stays as loud as the mix. */
  async follow() {
    if (!this.heard) return;
    if (!this.kept) return this.leave();
    await this.measure();
    state.hearing.tellListening();
  },
});
