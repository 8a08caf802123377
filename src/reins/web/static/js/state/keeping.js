// @ts-check
// What is kept: changes sent to the server, and what comes back of it shown; what goes wrong said.

import * as api from "../api.js";

const SAID_MS = 9000;

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const keeping = (kit, state) => ({
  complain(sentence) {
    state.desk.problem = sentence;
    clearTimeout(kit.complaint);
    kit.complaint = setTimeout(() => { state.desk.problem = ""; }, SAID_MS);
  },

  /** Say what was done, for a while. */
  tell(sentence) {
    state.desk.told = sentence;
    clearTimeout(kit.telling);
    kit.telling = setTimeout(() => { state.desk.told = ""; }, SAID_MS);
  },

  async tried(work) {
    try {
      return await work();
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      this.complain(error.message);
      return null;
    }
  },

  /** Send a change, then show what is kept: the change, or, when it was refused, what was there before. */
  async send(work) {
    kit.changes += 1;
    kit.underway += 1;
    const kept = await this.tried(work);
    kit.underway -= 1;
    await this.refresh();
    return kept;
  },

  /** The session stands at a step, it is told: shown, unless that is what is shown, or an own change is about to ask. */
  async follow(step) {
    await kit.asked;
    if (!kit.underway && state.desk.session.step !== step) await this.refresh();
  },

  /** Show what is kept. An answer that an own change has overtaken is dropped: that change asks again. */
  async refresh() {
    const before = kit.changes;
    kit.asked = this.tried(() => api.getSession(state.desk.session.id));
    const session = await kit.asked;
    if (!session || before !== kit.changes || kit.underway) return;
    const heard = JSON.stringify([state.desk.document, state.hearing.reaches, state.desk.processorId]);
    const first = state.desk.empty;
    state.desk.session = session;
    kit.live.changeRate(state.desk.document.sample_rate);
    if (first && !state.desk.empty) state.desk.select(state.desk.document.order[0]);
    else if (state.desk.strip) state.desk.showAll();
    else state.desk.select(state.desk.document.order[0] ?? "master");
    if (heard !== JSON.stringify([state.desk.document, state.hearing.reaches, state.desk.processorId])) state.hearing.askMatching();
    state.referring.follow();
    state.above.follow();
  },
});
