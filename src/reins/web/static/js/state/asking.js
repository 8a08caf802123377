// @ts-check
// Why here: what the chosen processor does at a moment of the take, told beside it.

import * as api from "../api.js";

const AROUND_S = 0.5; // heard before and after a place
const LATENCY_S = 0.25; // until the sound is there

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const asking = (kit, state) => ({
  /** @type {{sentence: string, at_s: number | null} | null} */
  answer: null,

  /** Ask of a frame of the session. @param {number} frame */
  async why(frame) {
    if (!state.desk.working || !state.desk.hasTake) return;
    kit.whyNumber = (kit.whyNumber ?? 0) + 1;
    const number = kit.whyNumber;
    const { session, stripId, processorId, document } = state.desk;
    const body = { desk: kit.previews.desk, number, processor_id: processorId, at_s: frame / document.sample_rate };
    const answer = await state.keeping.tried(() => api.why(session.id, stripId, body));
    if (!answer || number !== kit.whyNumber) return;
    this.place(frame);
    this.answer = answer;
  },
  kind: "deepest", // of the worst places that are stepped through
  kinds: [["deepest", "deepest"], ["longest", "longest"], ["restless", "restless"], ["loudest", "loudest"]],
  /** @type {any[]} */
  places: [],
  at: -1,
  get places_() { return this.places.filter(({ kind }) => kind === this.kind); },
  looking: false,
  get worstText() { return this.looking ? "looking …" : this.at < 0 || !this.places_.length ? "Next worst" : `${this.at + 1} of ${this.places_.length}`; },
  setKind(kind) {
    this.kind = kind;
    this.at = -1;
  },
  /** The next worst place of a kind, or the one before: heard for a second around, and told. @param {number} by */
  async nextWorst(by) {
    const { session, stripId, processorId, document, working, hasTake } = state.desk;
    if (!working || !hasTake) return;
    const asked = JSON.stringify([stripId, processorId, session.step]);
    if (asked !== kit.worstOf) {
      kit.worstNumber = (kit.worstNumber ?? 0) + 1;
      const number = kit.worstNumber;
      this.looking = true;
      const answer = await state.keeping.tried(() => api.worst(session.id, stripId, { desk: kit.previews.desk, number, processor_id: processorId }));
      this.looking = false;
      if (!answer || number !== kit.worstNumber) return;
      kit.worstOf = asked;
      Object.assign(this, { places: answer.places, at: -1 });
    }
    const list = this.places_;
    if (!list.length) {
      state.keeping.tell(`No such place: nothing is ${{ deepest: "held or let", longest: "held for long", restless: "changing its mind often", loudest: "loud" }[this.kind]}.`);
      return;
    }
    this.at = this.at < 0 && by < 0 ? list.length - 1 : (this.at + by + list.length) % list.length;
    const place = list[this.at];
    const rate = document.sample_rate;
    const middle = Math.min((place.at_s + place.end_s) / 2, place.at_s + 0.5) * rate;
    kit.view.follow(middle);
    this.tellAt(middle, `${place.at_s.toFixed(2)} s: ${place.said}; ${this.at + 1} of ${list.length}`);
    clearTimeout(kit.around);
    kit.live.play(Math.max(0, middle - AROUND_S * rate));
    kit.around = setTimeout(() => kit.live.stop(), 1000 * (2 * AROUND_S + LATENCY_S));
  },
  /** A note at a frame of the take. */
  tellAt(frame, said) {
    this.place(frame);
    this.answer = { sentence: said, at_s: null };
  },
  place(frame) {
    const { left, width } = kit.view.place;
    const x = left + ((frame - kit.view.model.start) / kit.view.model.frames) * width;
    kit.parts.why.style.left = `${Math.round(Math.min(Math.max(x, left), left + width))}px`;
  },
  here() { return this.why(Math.round(kit.live.position())); },
  close() { this.answer = null; },
  get said() {
    if (!this.answer) return "";
    return this.answer.at_s === null ? this.answer.sentence : `${this.answer.at_s.toFixed(2)} s: ${this.answer.sentence}`;
  },
});
