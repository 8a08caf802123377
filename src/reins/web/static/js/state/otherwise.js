// @ts-check
// What is heard otherwise for a moment and not kept: a processor passed by, by itself every so often or not; one
// overdone; strips made as loud as they were, whatever is done to them.

import * as api from "../api.js";

const EVERY = /^\s*(\d+(?:[.,]\d+)?)\s*(s|sec|seconds?|b|beats?|bars?)?\s*$/i;

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const otherwise = (kit, state) => ({
  turns: false, // the chosen processor comes and goes by itself
  passed: false, // and is away now
  every: "4 beats",
  overdone: "", // the processor, while its key is down or latched
  latched: false,
  /** @type {Record<string, number>} how loud each strip is to be, LUFS */
  goals: {},
  /** @type {Record<string, number>} by how much louder what is tried is heard */
  gains: {},

  /** Tell the player; it takes all of it anew. */
  tell(force = false) {
    const { stripId, processorId } = state.desk;
    const told = {
      passed: this.turns && this.passed && processorId ? [[stripId, processorId]] : [],
      overdone: this.overdone ? [[stripId, this.overdone]] : [],
      goals_lufs: state.hearing.matching ? this.goals : {},
      gains_db: this.gains,
    };
    const words = JSON.stringify(told);
    if ((words === kit.otherwiseTold && !force) || state.blinding.test) return;
    kit.otherwiseTold = words;
    kit.live.send({ type: "otherwise", ...JSON.parse(words) }); // plain: what Alpine watches cannot be sent
  },

  /** Seconds of an interval as it is typed: "4 s", "2 beats", "1 bar"; null for what is none. @param {string} text */
  seconds(text) {
    const found = EVERY.exec(text);
    if (!found) return null;
    const { tempo_bpm: tempo, beats_per_bar: perBar } = state.desk.document;
    const count = Number(found[1].replace(",", "."));
    const unit = (found[2] ?? "s").toLowerCase();
    const seconds = count * (unit.startsWith("bar") ? (60 / tempo) * perBar : unit.startsWith("b") ? 60 / tempo : 1);
    return seconds >= 0.25 && seconds <= 120 ? seconds : null;
  },
  setEvery(field) {
    if (this.seconds(field.value) === null) state.keeping.complain("By turns takes a quarter of a second to two minutes, as “4 s”, “2 beats” or “1 bar”.");
    else this.every = field.value.trim();
    field.value = this.every;
    if (this.turns) this.beginTurns();
  },
  toggleTurns() {
    if (this.turns) this.endTurns();
    else if (state.desk.processor?.on) this.beginTurns();
    else state.keeping.complain("By turns is for a processor that is on: choose one.");
  },
  beginTurns() {
    clearInterval(kit.turning);
    Object.assign(this, { turns: true, passed: false });
    kit.turning = setInterval(() => { this.passed = !this.passed; this.tell(); }, 1000 * (this.seconds(this.every) ?? 2));
    this.tell();
  },
  endTurns() {
    clearInterval(kit.turning);
    Object.assign(this, { turns: false, passed: false });
    this.tell();
  },
  get isOverdone() { return this.overdone !== ""; },
  get turnsText() { return !this.turns ? "By turns" : this.passed ? "By turns: away" : "By turns: there"; },

  /** What the chosen processor takes or gives is doubled while its key is down. @param {boolean} down */
  overdo(down) {
    if (!down && this.latched) return;
    const own = state.desk.processor;
    if (down && !own?.on) return;
    this.overdone = down ? own.id : "";
    this.tell();
  },
  latch() {
    this.latched = !this.overdone;
    this.overdo(this.latched);
    if (!this.latched) { this.overdone = ""; this.tell(); }
  },

  /** Another processor or strip is chosen: what was heard otherwise was not for that. */
  changeBench() {
    this.latched = false;
    this.overdone = "";
    this.gains = {};
    if (this.turns) this.endTurns();
    else this.tell();
    state.desk.$nextTick(() => this.askEqual()); // of what is chosen now
  },

  /** How loud the strip is in each way it can be heard, where all is matched; the player knows it from then on. */
  async askEqual() {
    if (!state.hearing.matching || state.desk.empty || !state.desk.hasTake) return;
    kit.equalNumber = (kit.equalNumber ?? 0) + 1;
    const number = kit.equalNumber;
    const { session, stripId, processorId } = state.desk;
    try {
      const { lufs } = await api.equal(session.id, stripId, { desk: kit.previews.desk, number, processor_id: processorId });
      if (number !== kit.equalNumber || !state.hearing.matching) return;
      if (!(stripId in this.goals) && lufs.result !== null) this.goals = { ...this.goals, [stripId]: lufs.result };
      this.tell(true);
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      if (error.status !== 409) state.keeping.complain(error.message);
    }
  },
});
