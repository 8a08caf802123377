// What is heard: result, source, difference or key, of the mix or of the chosen strip, equally loud when asked.

import * as api from "../api.js";

/** @param {object} kit the desk's parts that Alpine must not see */
export const hearing = (kit) => ({
  listen: "result",
  listens: [["result", "Result"], ["source", "Source"], ["difference", "Difference"], ["key", "Key"]],
  reach: "mix", // what is heard: the mix, the chosen strip, or the chosen processor
  matching: false,
  gains: null,
  matchNumber: 0,

  get hearsKey() { return Boolean(this.processor?.settings.key || this.keyBand); },
  get reachWord() { return { mix: "In the mix", strip: "Strip", processor: "Processor" }[this.reaches]; },
  /** What is heard now: without a processor that is on, its strip. */
  get reaches() { return this.reach === "processor" && !this.processor?.on ? "strip" : this.reach; },
  get matchText() {
    if (!this.matching) return "Match";
    if (!this.gains) return "… LU";
    const gain = this.gains[this.listen] ?? 0;
    return `${gain < 0 ? "−" : "+"}${Math.abs(gain).toFixed(1)} LU`;
  },

  hear(what) {
    if (what === "key" && !this.hearsKey) {
      this.complain("A key is heard of a processor that has one: choose a compressor or a band, then Key.");
      return;
    }
    this.listen = what;
    this.tellListening();
  },
  /** The key is heard while one of its controls is in the hand. */
  holdKey(held) {
    if (held && this.hearsKey && this.playing && this.listen !== "key") {
      kit.heardBefore = this.listen;
      this.hear("key");
    } else if (!held && kit.heardBefore) {
      this.hear(kit.heardBefore);
      kit.heardBefore = null;
    }
  },
  changeReach() {
    const all = ["mix", "strip", ...(this.processor?.on ? ["processor"] : [])];
    this.reach = all[(all.indexOf(this.reaches) + 1) % all.length];
    this.gains = null;
    this.tellListening();
    this.askMatching();
  },

  /** Tell the engine; called whenever what is chosen has changed. */
  tellListening() {
    if (this.listen === "key" && !this.hearsKey) this.listen = "result";
    const key = this.listen === "key" || this.heardBand !== null;
    const told = {
      what: this.heardBand ? "band" : this.listen, band: this.heardBand ?? this.keyBand,
      of: key || this.reaches !== "mix" ? this.stripId : null, processor_id: key || this.reaches === "processor" ? this.processorId : null,
      gain_db: (this.matching && this.gains?.[this.listen]) || 0,
    };
    kit.bench.latch?.setAttribute("aria-pressed", String(this.listen === "key"));
    if (JSON.stringify(told) === kit.told) return;
    kit.told = JSON.stringify(told);
    kit.live.listen(told);
  },

  changeMatching() {
    this.matching = !this.matching;
    this.gains = null;
    this.tellListening();
    this.askMatching();
  },
  /** Measure anew, in the background; the newest question wins. */
  async askMatching() {
    if (!this.matching || this.empty) return;
    const number = ++this.matchNumber;
    const body = { desk: kit.previews.desk, number, of: this.reaches === "mix" ? null : this.stripId, processor_id: this.reaches === "processor" ? this.processorId : null };
    try {
      const answer = await api.matching(this.session.id, body);
      if (number !== this.matchNumber) return;
      this.gains = answer.gains_db;
      this.tellListening();
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      if (error.status !== 409) this.complain(error.message);
    }
  },
  async matchMakeup() {
    await this.send(() => api.matchMakeup(this.session.id, this.stripId, this.processorId));
  },
});
