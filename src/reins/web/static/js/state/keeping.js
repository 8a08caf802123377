// What is kept: changes sent to the server, and what comes back of it shown; what goes wrong said.

import * as api from "../api.js";

const SAID_MS = 9000;

/**
 * @param {object} kit the desk's parts that Alpine must not see
 * Needs of the desk: session, document, reaches, processorId, empty, strip, select, showAll, askMatching.
 */
export const keeping = (kit) => ({
  complain(sentence) {
    this.problem = sentence;
    clearTimeout(kit.complaint);
    kit.complaint = setTimeout(() => { this.problem = ""; }, SAID_MS);
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

  /** Show what is kept. An answer that an own change has overtaken is dropped: that change asks again. */
  async refresh() {
    const before = kit.changes;
    const state = await this.tried(() => api.getSession(this.session.id));
    if (!state || before !== kit.changes || kit.underway) return;
    const heard = JSON.stringify([this.document, this.reaches, this.processorId]);
    const first = this.empty;
    this.session = state;
    kit.live.changeRate(this.document.sample_rate);
    if (first && !this.empty) this.select(this.document.order[0]);
    else if (this.strip) this.showAll();
    else this.select(this.document.order[0] ?? "master");
    if (heard !== JSON.stringify([this.document, this.reaches, this.processorId])) this.askMatching();
  },
});
