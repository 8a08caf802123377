// @ts-check
// Why here: what the chosen processor does at a moment of the take, told beside it.

import * as api from "../api.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const asking = (kit, state) => ({
  /** @type {{sentence: string, at_s: number} | null} */
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
    const { left, width } = kit.view.place;
    const x = left + ((frame - kit.view.model.start) / kit.view.model.frames) * width;
    kit.parts.why.style.left = `${Math.round(Math.min(Math.max(x, left), left + width))}px`;
    this.answer = answer;
  },
  here() { return this.why(Math.round(kit.live.position())); },
  close() { this.answer = null; },
  get said() { return this.answer ? `${this.answer.at_s.toFixed(2)} s: ${this.answer.sentence}` : ""; },
});
