// @ts-check
// Aim: what is wanted of the take, the proposal that comes of it, heard and seen against what is there, taken or left;
// and what is found in the take, corrected by hand.

import * as api from "../api.js";
import { spoken } from "../values.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data
 */
export const aiming = (kit, state, data) => ({
  open: false,
  name: "",
  asked: 0,
  busy: false,
  /** @type {any} */
  proposal: null,
  refused: "",
  hearsProposal: true,
  gainDb: 0,
  /** @type {any} */
  marks: null,

  /** All aims, those for the chosen processor first. */
  get list() {
    const type = state.desk.processor?.type;
    return [...data.aims.filter((aim) => aim.types.includes(type)), ...data.aims.filter((aim) => !aim.types.includes(type))];
  },
  /** The processor an aim will be added for, in words; nothing where the chosen one serves. */
  get adds() {
    if (!this.aim || this.rides || this.aim.types.includes(state.desk.processor?.type)) return "";
    return `adds a ${state.desk.processors.find(({ type }) => type === this.aim.types[0]).label.toLowerCase()} for it`;
  },
  get aim() { return data.aims.find(({ name }) => name === this.name) ?? null; },
  get rides() { return this.aim?.types.length === 1 && this.aim.types[0] === "level"; },
  get shows() { return this.aim?.shows ?? "hits"; },
  get looks() { return { "is-aiming": this.open, "is-proposing": Boolean(this.proposal) && this.hearsProposal && !this.rides }; },
  get canAim() { return !state.desk.empty && state.desk.hasTake; },
  get found() {
    const count = this.marks?.[`${this.shows}_s`]?.length;
    return count === undefined ? "" : `${count} ${count === 1 ? this.shows.slice(0, -1) : this.shows} found`;
  },

  toggle() { this.open ? this.leave() : this.begin(this.list[0].name); },
  /** @param {string} name */
  begin(name) {
    this.leave();
    this.open = true;
    this.choose(name);
    this.askMarks();
  },
  choose(name) {
    this.drop();
    this.name = name;
    this.asked = this.aim?.asks?.default ?? 0;
    this.showMarks();
  },
  /** A number typed for what is asked; what is no number stays as it was. */
  ask(field) {
    const value = Number(field.value.replace("−", "-").replace(",", "."));
    const { low, high } = this.aim.asks;
    if (Number.isFinite(value) && field.value.trim()) this.asked = Math.min(high, Math.max(low, value));
    field.value = String(this.asked);
  },

  async find() {
    this.drop();
    this.busy = true;
    if (this.adds) { // a step of its own
      kit.addingForAim = true;
      await state.editing.add(this.aim.types[0]);
      kit.addingForAim = false;
    }
    kit.aimNumber = (kit.aimNumber ?? 0) + 1;
    const number = kit.aimNumber;
    const { session, stripId, processorId } = state.desk;
    const body = { desk: kit.previews.desk, number, aim: this.name, asked: this.asked, processor_id: this.rides ? null : processorId };
    try {
      for (const first of this.isLong ? [true, false] : [false]) {
        const proposal = await api.aim(session.id, stripId, { ...body, first });
        if (number !== kit.aimNumber || !this.open) return;
        this.proposal = proposal;
        this.hear(true);
        this.match(proposal);
      }
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      if (number === kit.aimNumber) this.refused = error.message;
    } finally {
      if (number === kit.aimNumber) this.busy = false;
    }
  },
  get isLong() { return state.desk.session.frames > 60 * state.desk.document.sample_rate; },
  /** Give up what is being found. */
  stop() {
    kit.aimNumber = (kit.aimNumber ?? 0) + 1;
    this.busy = false;
    const { session, stripId } = state.desk;
    api.marks(session.id, stripId, { desk: `${kit.previews.desk}`, number: kit.aimNumber }).catch(() => {}); // a newer request stops it
  },

  /** By how much the proposal is made as loud as what is there, where all is matched; over what is in view. */
  async match(proposal) {
    if (!state.hearing.matching || this.rides) return;
    const { session, stripId, processorId } = state.desk;
    const body = { desk: kit.previews.desk, number: kit.aimNumber, processor_id: processorId, columns: 1, ...state.spreading.passage() };
    const loudness = async (settings) => (await api.tile(session.id, stripId, { ...body, settings })).figures.integrated_lufs;
    const there = await state.keeping.tried(() => loudness({}));
    const proposed = await state.keeping.tried(() => loudness(proposal.settings));
    if (proposal !== this.proposal || typeof there !== "number" || typeof proposed !== "number") return;
    this.gainDb = Math.max(-24, Math.min(24, there - proposed));
    this.hear(this.hearsProposal);
  },
  /** Hear and see the proposal, or what is there. @param {boolean} proposed */
  hear(proposed) {
    this.hearsProposal = proposed;
    if (!this.proposal || this.rides) return;
    state.otherwise.gains = proposed && this.gainDb ? { [state.desk.stripId]: this.gainDb } : {};
    state.otherwise.tell();
    const own = state.desk.processor.settings;
    const at = (path) => path.split(".").reduce((part, key) => part[key], own);
    const there = Object.fromEntries(Object.keys(this.proposal.settings).map((path) => [path, at(path)]));
    kit.attempted = {};
    state.trying.attemptMany(proposed ? this.proposal.settings : there);
    kit.bench.set(state.trying.settingsNow());
  },
  /** What else there is where not all can be had, heard before it is taken. @type {{name: string, label: string, settings: Record<string, any>, reason: string}[]} */
  get ways() { return this.proposal?.ways ?? []; },
  /** @param {{name: string, settings: Record<string, any>, reason: string}} way */
  goBy(way) {
    this.proposal = { ...this.proposal, way: way.name, settings: way.settings, reason: way.reason };
    this.hear(true);
  },
  isWay(way) { return (this.proposal?.way ?? this.ways[0]?.name) === way.name; },
  get soft() { return this.proposal?.figures?.soft_s ?? []; },
  get softWord() { return this.soft.length ? `Hear a soft hit (${this.softAt % this.soft.length + 1} of ${this.soft.length})` : ""; },
  softAt: 0,
  /** Go to the next soft hit, a little before it. */
  goToSoft() {
    const rate = state.desk.document.sample_rate;
    const frame = Math.max(0, Math.round((this.soft[this.softAt % this.soft.length] - 0.25) * rate));
    this.softAt += 1;
    kit.view.look(Math.max(0, frame - rate), 4 * rate);
    kit.live.seek(frame);
  },
  async take() {
    const { settings, line } = this.proposal;
    const number = kit.aimNumber;
    this.proposal = null;
    this.unmatch();
    if (line) {
      const rein = { id: crypto.randomUUID().slice(0, 12), on: true, moves: [{ what: "strip.fader_db", to: null }], by: { kind: "line", points: line } };
      await state.editing.onStrip("put_rein", { rein });
    } else await state.trying.keepMany(settings);
    if (number === kit.aimNumber) this.refused = "";
  },
  /** What was proposed is heard and seen no more. */
  drop() {
    kit.aimNumber = (kit.aimNumber ?? 0) + 1;
    if (this.proposal && !this.rides && state.desk.processor) this.hear(false);
    this.unmatch();
    if (this.proposal) {
      kit.attempted = {};
      kit.live.send({ type: "untried" });
    }
    Object.assign(this, { proposal: null, refused: "", busy: false });
  },
  unmatch() {
    this.gainDb = 0;
    state.otherwise.gains = {};
    state.otherwise.tell();
  },
  leave() {
    this.drop();
    this.open = false;
    this.showMarks();
  },

  async askMarks() {
    kit.markNumber = (kit.markNumber ?? 0) + 1;
    const number = kit.markNumber;
    const { session, stripId } = state.desk;
    const marks = await state.keeping.tried(() => api.marks(session.id, stripId, { desk: kit.previews.desk, number }));
    if (number !== kit.markNumber || !marks) return;
    this.marks = marks;
    this.showMarks();
  },
  showMarks() { kit.view.show({ marks: this.open && this.marks ? { what: this.shows, at: this.marks[`${this.shows}_s`] } : null }); },
  /** @param {number} at_s */
  async takeMark(at_s) {
    if (await state.editing.onStrip("correct_mark", { what: this.shows, at_s, add: false })) this.askMarks();
  },
  async addMark(at_s) {
    const end = this.shows === "hits" ? null : at_s + (this.shows === "sibilants" ? 0.1 : 0.5);
    if (await state.editing.onStrip("correct_mark", { what: this.shows, at_s, end_s: end, add: true })) this.askMarks();
  },
  /** Another strip or processor: what was proposed is not for that. */
  changeBench() {
    if (this.open && !kit.addingForAim) this.leave();
  },

  get tempo() { return this.marks?.tempo; },
  get offersTempo() { return this.open && this.tempo && Math.abs(this.tempo.bpm - state.desk.document.tempo_bpm) > 0.25; },
  takeTempo() { return state.editing.change({ kind: "set_session", tempo_bpm: Math.round(this.tempo.bpm * 10) / 10 }); },
  /** What is proposed, setting by setting, against what is there. */
  get changes() {
    if (!this.proposal || this.rides || !state.desk.kind) return [];
    const fields = state.desk.kind.settings;
    return Object.entries(this.proposal.settings).map(([path, value]) => {
      const field = fields.find(({ name }) => name === path) ?? fields.find(({ name }) => name === path.split(".")[0])?.fields?.find(({ name }) => name === path.split(".").at(-1));
      return field ? [path, field.label, field.kind === "number" ? spoken(value, field) : String(value)] : [path, path, String(value)];
    });
  },
});
