// @ts-check
// What is heard: result, source, difference or key, of the mix or of the chosen strip, equally loud when asked.

import * as api from "../api.js";
import { NumberControl } from "../control.js";

const NEAR_LU = 0.15; // as near as a picture of what is in view can tell

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const hearing = (kit, state) => ({
  listen: "result",
  listens: [["result", "Result"], ["source", "Source"], ["difference", "Difference"], ["key", "Key"]],
  reach: "mix", // what is heard: the mix, the chosen strip, or the chosen processor
  matching: false,
  gains: null,
  matchNumber: 0,
  sides: "both",
  allSides: [["both", "Stereo"], ["mono", "Mono"], ["sides", "Sides"]],
  sourcePct: 0, // how much of the source is heard within the result
  more: false, // whether what is seldom set is shown

  get hearsKey() { return Boolean(state.desk.processor?.settings.key || state.frequencies.keyBand); },
  get reachWord() { return { mix: "In the mix", strip: "Strip", processor: "Processor" }[this.reaches]; },
  /** What is heard now: without a processor that is on, its strip. */
  get reaches() { return this.reach === "processor" && !state.desk.processor?.on ? "strip" : this.reach; },
  get matchText() {
    if (!this.matching) return "Match";
    if (!this.gains) return "… LU";
    const gain = this.gains[this.listen] ?? 0;
    return `${gain < 0 ? "−" : "+"}${Math.abs(gain).toFixed(1)} LU`;
  },

  hear(what) {
    if (what === "key" && !this.hearsKey) {
      state.keeping.complain("A key is heard of a processor that has one: choose a compressor or a band, then Key.");
      return;
    }
    this.listen = what;
    state.referring.heard = false;
    this.tellListening();
  },
  hearSides(sides) {
    this.sides = sides;
    this.tellListening();
  },
  nextSides() { this.hearSides({ both: "mono", mono: "sides", sides: "both" }[this.sides]); },
  get moreWord() { return [state.referring.heard ? "reference" : "", this.sides === "both" ? "" : this.sides, this.sourcePct ? `${this.sourcePct} % source` : "", state.desk.document.loop.pause_s ? "pause" : ""].filter(Boolean).join(", ") || "⋯"; },
  /** Build what is seldom set: how much of the source, how long a pause. */
  beginMore() {
    const tempo = () => state.desk.document.tempo_bpm;
    const blend = new NumberControl({ name: "source_pct", label: "Source in the result", unit: "%", low: 0, high: 100, default: 0, step: 1, scale: "linear", help: "Fades from the result to the source, as far as you want to go." }, {
      attempt: (value) => { this.sourcePct = value; this.tellListening(); }, keep: () => {}, tempo,
    });
    kit.pause = new NumberControl({ name: "pause_s", label: "Pause before the loop begins again", unit: "s", low: 0, high: 10, default: 0, step: 0.5, scale: "linear", help: "Silence to hear tails out and to rest the ear." }, {
      attempt: () => {}, keep: (value) => state.editing.change({ kind: "set_session", loop: { ...state.desk.document.loop, pause_s: value } }), tempo,
    });
    kit.parts.earcontrols.append(blend.root, kit.pause.root);
  },
  /** The key is heard while one of its controls is in the hand. */
  keyInHand(inHand) {
    if (inHand && this.hearsKey && state.desk.playing && this.listen !== "key") {
      kit.heardBefore = this.listen;
      this.hear("key");
    } else if (!inHand && kit.heardBefore) {
      this.hear(kit.heardBefore);
      kit.heardBefore = null;
    }
  },
  changeReach() {
    const all = ["mix", "strip", ...(state.desk.processor?.on ? ["processor"] : [])];
    this.reach = all[(all.indexOf(this.reaches) + 1) % all.length];
    this.gains = null;
    this.tellListening();
    this.askMatching();
  },

  /** Tell the engine; called whenever what is chosen has changed. */
  tellListening() {
    if (this.listen === "key" && !this.hearsKey) this.listen = "result";
    if (state.referring.heard) return this.tell({ what: "reference", of: null, processor_id: null, gain_db: state.referring.gainDb, sides: this.sides });
    const key = this.listen === "key" || state.frequencies.heardBand !== null;
    const told = {
      what: state.frequencies.heardBand ? "band" : this.listen, band: state.frequencies.heardBand ?? state.frequencies.keyBand,
      of: key || this.reaches !== "mix" ? state.desk.stripId : null, processor_id: key || this.reaches === "processor" ? state.desk.processorId : null,
      gain_db: (this.matching && this.gains?.[this.listen]) || 0,
      source_pct: this.listen === "result" ? this.sourcePct : 0, sides: this.sides,
    };
    kit.bench.latch?.setAttribute("aria-pressed", String(this.listen === "key"));
    this.tell(told);
  },
  tell(told) {
    if (JSON.stringify(told) === kit.told) return;
    kit.told = JSON.stringify(told);
    kit.live.listen(told);
  },

  changeMatching() {
    this.matching = !this.matching;
    this.gains = null;
    state.otherwise.goals = {};
    this.tellListening();
    state.otherwise.tell();
    this.askMatching();
  },
  /** In a blind test only results are heard, and all as loud. @param {string} stripId */
  forBlind(stripId) {
    this.listen = "result";
    kit.told = null;
    kit.live.listen({ what: "result", of: this.reaches === "mix" ? null : stripId, processor_id: null, gain_db: 0 });
  },
  /** Measure anew, in the background; the newest question wins. */
  async askMatching() {
    if (!this.matching || state.desk.empty) return;
    state.otherwise.askEqual();
    const number = ++this.matchNumber;
    const body = { desk: kit.previews.desk, number, of: this.reaches === "mix" ? null : state.desk.stripId, processor_id: this.reaches === "processor" ? state.desk.processorId : null };
    try {
      const answer = await api.matching(state.desk.session.id, body);
      if (number !== this.matchNumber) return;
      this.gains = answer.gains_db;
      this.tellListening();
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      if (error.status !== 409) state.keeping.complain(error.message);
    }
  },
  /** Whether makeup goes with the other settings of the chosen processor, so that result and source stay equally loud. */
  get following() { return Boolean(state.desk.processor?.as_loud); },
  get makeup() { return ["makeup_db", "output_db"].find((name) => name in (state.desk.processor?.settings ?? {})); },
  toggleFollowing() {
    return state.editing.onProcessor("set_processor", state.desk.processor, { as_loud: !this.following });
  },
  /** A picture of what is tried has come: makeup makes up for what it lost. */
  follow(answer) {
    const name = this.makeup;
    if (!this.following || !name || !Object.keys(kit.attempted).some((tried) => tried !== name)) return;
    const [come, gone] = [(answer.before ?? answer.source).integrated_lufs, (answer.after ?? answer.result).integrated_lufs];
    if (come === null || gone === null || Math.abs(come - gone) < NEAR_LU) return;
    const now = kit.attempted[name] ?? state.desk.processor.settings[name];
    const to = Math.round(10 * Math.min(24, Math.max(-24, now + come - gone))) / 10;
    if (to === now) return;
    state.trying.attempt(name, to);
    kit.bench.controls.get(name)?.set(to);
  },
  async matchMakeup() {
    await state.keeping.send(() => api.matchMakeup(state.desk.session.id, state.desk.stripId, state.desk.processorId));
  },
});
