// @ts-check
// Blind: two ways the strip can be heard, equally loud, told apart or chosen between by ear alone, with keys alone; what
// came of it is told at the end and stays with the session.

import * as api from "../api.js";

const KINDS = [
  ["which", "Which is X", "X is one of both; say which, as often as you like."],
  ["prefer", "Which do you prefer", "Two in an order drawn anew each round; say which you would keep."],
  ["by_itself", "Going over by itself", "It goes over at moments nobody can foresee; press M when you hear it."],
];
const HEARD = { which: [["a", "A", "1"], ["b", "B", "2"], ["x", "X", "3"]], prefer: [["first", "First", "1"], ["second", "Second", "2"]], by_itself: [] };
const ANSWERS = { which: [["a", "X is A", "←"], ["b", "X is B", "→"]], prefer: [["first", "The first", "←"], ["second", "The second", "→"]], by_itself: [] };

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const blinding = (kit, state) => ({
  open: false,
  kinds: KINDS,
  kind: "which",
  a: "result",
  b: "without chain",
  every: "4 s",
  test: "", // its id, while it runs
  rounds: 0,
  marked: 0,
  heard: "",
  matched: 0,
  busy: false,
  refused: "",
  /** @type {any} */
  result: null,

  get about() { return KINDS.find(([kind]) => kind === this.kind)?.[2] ?? ""; },
  /** The ways the strip can be heard, as [name, words]. */
  get ways() {
    const { strip, processor } = state.desk;
    if (!strip) return [];
    const drafts = Object.keys(strip.drafts).map((number) => [`draft ${number}`, `draft ${number}${strip.drafts[number].name ? ` “${strip.drafts[number].name}”` : ""}`]);
    const without = processor?.on ? [["without", `without the ${state.desk.labelOf(processor).toLowerCase()}`], ["overdone", `the ${state.desk.labelOf(processor).toLowerCase()} overdone`]] : [];
    return [["result", `draft ${strip.draft}, as it is`], ["without chain", "source"], ...drafts, ...without];
  },
  get listens() { return HEARD[this.kind]; },
  get answers() { return ANSWERS[this.kind]; },
  get past() { return state.desk.document.judged.toReversed(); },
  get asks() {
    if (this.kind === "by_itself") return `${this.marked} marked`;
    return `Round ${this.rounds + 1}`;
  },

  toggle() { this.open ? this.leave() : this.begin(); },
  begin() {
    if (state.desk.empty || !state.desk.hasTake) return;
    state.spreading.leave();
    state.aiming.leave();
    Object.assign(this, { open: true, result: null, refused: "" });
    state.room.placePictures();
  },
  async start() {
    const { session, stripId, processorId } = state.desk;
    const every = state.otherwise.seconds(this.every);
    if (every === null || every < 1 || every > 60) {
      this.refused = "It may go over every 1 to 60 s, as “4 s” or “2 bars”.";
      return;
    }
    Object.assign(this, { busy: true, refused: "", result: null });
    try {
      const made = await api.beginBlind(session.id, stripId, { kind: this.kind, a: this.a, b: this.b, processor_id: processorId, every_s: every });
      Object.assign(this, { test: made.id, matched: made.matched_lu, rounds: 0, marked: 0, heard: "" });
      state.hearing.forBlind(stripId);
      this.hear(this.listens[0]?.[0] ?? "");
      if (!state.desk.playing) state.transport.toggle();
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      this.refused = error.message;
    } finally {
      this.busy = false;
    }
  },
  /** @param {string} what */
  hear(what) {
    this.heard = what;
    kit.live.send({ type: "blind", test: this.test, ...(what ? { hear: what } : {}) });
  },
  async answer(what) {
    const made = await state.keeping.tried(() => api.answerBlind(state.desk.session.id, this.test, what));
    if (!made) return;
    this.rounds = made.rounds;
    this.hear(this.listens[0][0]);
  },
  mark() {
    kit.live.send({ type: "mark", frames: Math.round(kit.live.heardFrames()) });
    this.marked += 1;
  },
  async end() {
    const test = this.test;
    if (!test) return;
    try {
      this.result = await api.endBlind(state.desk.session.id, test);
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      this.refused = error.message;
      if (error.status === 409) return; // nothing answered yet: it goes on
    }
    this.over();
    state.keeping.refresh();
  },
  giveUp() {
    if (this.test) api.leaveBlind(state.desk.session.id, this.test).catch(() => {}); // it is forgotten all the same
    this.over();
  },
  /** The connection was lost: what plays now knows of no test, so that its meters could tell. It ends where it was. */
  async breakOff() {
    if (!this.test) return;
    await this.end();
    if (!this.result) this.giveUp();
    this.refused = `The connection was lost and the test with it; ${this.result ? "what was answered before is kept" : "nothing was kept"}.`;
  },
  /** All is heard as it is. */
  over() {
    if (!this.test) return;
    this.test = "";
    kit.live.send({ type: "blind", test: null });
    state.otherwise.tell(true);
    state.hearing.tellListening();
  },
  leave() {
    if (!this.open) return;
    this.giveUp();
    this.open = false;
    state.room.placePictures();
    state.desk.showAll();
  },
  /** @param {KeyboardEvent} event @returns {boolean} whether the key was for the test */
  key(event) {
    if (!this.open || event.ctrlKey || event.metaKey || event.altKey) return false;
    if (!this.test) {
      if (event.key !== "Escape") return false;
      this.leave();
      return true;
    }
    const heard = this.listens.find(([, , key]) => key === event.key);
    const answer = { ArrowLeft: this.answers[0], ArrowRight: this.answers[1] }[event.key];
    if (heard) this.hear(heard[0]);
    else if (answer) this.answer(answer[0]);
    else if (event.key.toLowerCase() === "m" && this.kind === "by_itself") this.mark();
    else if (event.key === "Enter") this.end();
    else if (event.key === "Escape") this.giveUp();
    else return event.key !== " " && event.key !== "Backspace"; // all others that could tell do nothing now
    return true;
  },
});
