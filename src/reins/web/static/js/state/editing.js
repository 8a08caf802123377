// @ts-check
// Changing the session: strips, chains, drafts, starting points, steps.

import * as api from "../api.js";
import { keysOf, keysOfReins } from "../shapes.js";

export const newId = () => crypto.randomUUID().replaceAll("-", "").slice(0, 12);

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data of the page
 */
export const editing = (kit, state, data) => ({
  /** @type {{title: string, lines: string[]} | null} */
  compared: null,
  /** @type {{session: string, strip: string, label: string}[]} */
  chains: [],
  adding: false,
  wanted: "", // what is typed to find a processor
  /** @type {any} */
  dragged: null,
  renaming: false,
  naming: false,
  sessionName: "",
  copying: false,
  newName: "",
  steps: [],
  busName: "",
  /** @type {string[]} */
  busMembers: [],
  ownPoints: data.ownPoints,
  pointName: "",

  change(change) {
    return state.keeping.send(() => api.change(state.desk.session.id, change));
  },
  undo() { return state.keeping.send(() => api.undo(state.desk.session.id)); },
  redo() { return state.keeping.send(() => api.redo(state.desk.session.id)); },
  async askHistory() {
    this.steps = (await state.keeping.tried(() => api.history(state.desk.session.id)))?.steps ?? [];
  },
  async showHistory() {
    await this.askHistory();
    kit.parts.history.showModal();
  },
  async goTo(step) {
    await state.keeping.send(() => api.goToStep(state.desk.session.id, step.number));
    await this.askHistory();
  },

  onTrack(kind) { return this.change({ kind, track_id: state.desk.stripId }); },
  onStrip(kind, more = {}) { return this.change({ kind, strip_id: state.desk.stripId, ...more }); },
  /** What follows this strip as its key, in words. */
  get followers() {
    const strips = { ...state.desk.document.tracks, ...state.desk.document.buses, master: state.desk.document.master };
    const keys = (strip) => [...strip.chain.flatMap(({ settings }) => keysOf(settings)), ...keysOfReins(strip.reins)];
    const follows = (strip) => keys(strip).some((source) => source.startsWith(`${state.desk.stripId}/`));
    return Object.values(strips).filter(follows).map(({ name }) => name).join(", ");
  },
  removeStrip() {
    if (this.followers) kit.parts.removing.showModal();
    else this.reallyRemove();
  },
  reallyRemove() {
    kit.parts.removing.close();
    return state.desk.isBus ? this.change({ kind: "remove_bus", bus_id: state.desk.stripId }) : this.onTrack("remove_track");
  },
  /** The session's name, open to be typed. */
  beginNaming() {
    this.sessionName = state.desk.document.name;
    this.naming = true;
    setTimeout(() => { // once the page stands, where it opens with it
      kit.parts.sessionname.focus();
      kit.parts.sessionname.select();
    });
  },
  nameSession() {
    if (!this.naming) return;
    this.naming = false;
    const name = this.sessionName.trim();
    if (name && name !== state.desk.document.name) this.change({ kind: "set_session", name });
  },
  beginRename() {
    this.newName = state.desk.strip.name;
    this.renaming = true;
    state.desk.$nextTick(() => kit.parts.name.select());
  },
  rename() {
    this.renaming = false;
    if (this.newName.trim()) this.onStrip("set_strip", { values: { name: this.newName.trim() } });
  },
  beginBus() {
    this.busName = "";
    this.busMembers = [];
    kit.parts.bus.showModal();
  },
  async makeBus() {
    const name = this.busName.trim();
    if (!name) return;
    kit.parts.bus.close();
    const id = newId();
    if (await this.change({ kind: "add_bus", bus_id: id, name, members: [...this.busMembers] })) state.desk.select(id);
  },

  beginAdding() {
    this.adding = !this.adding;
    this.wanted = "";
    if (this.adding) state.desk.$nextTick(() => state.desk.$refs.addfind.focus());
  },
  endAdding() {
    this.adding = false;
    /** @type {HTMLElement} */ (document.querySelector('[data-do="add"]')).focus();
  },
  /** Whether something that can be added is what is typed: by its name, its sentence, or words people may know it by. */
  fits({ label = "", name = "", about = "", sentence = "", words = "" }) {
    const all = `${label} ${name} ${about} ${sentence} ${words}`.toLowerCase();
    return this.wanted.toLowerCase().split(/\s+/).every((word) => all.includes(word));
  },
  addFirst() {
    const kind = state.desk.processors.find((one) => this.fits(one));
    if (this.wanted.trim() && kind) this.add(kind.type);
  },
  async add(type, settings = {}) {
    this.adding = false;
    const id = newId();
    state.desk.processorId = id;
    await this.change({ kind: "add_processor", strip_id: state.desk.stripId, type, processor_id: id, settings, lay: true });
    state.desk.selectProcessor(id);
  },
  /** Two processors that work together, in one step; the first is chosen. */
  async addPair(name) {
    this.adding = false;
    const ids = [newId(), newId()];
    state.desk.processorId = ids[0];
    await this.change({ kind: "add_pair", strip_id: state.desk.stripId, name, processor_ids: ids });
    state.desk.selectProcessor(ids[0]);
  },
  /** What the chosen processor is tied to, in words. */
  get tiedWord() {
    const own = state.desk.processor;
    const other = own?.tied ? state.desk.chain.findIndex((entry) => entry.id === own.tied && entry.type === own.type) : -1;
    return other < 0 ? "" : `Tied to processor ${other + 1} of this chain: its settings move alike`;
  },
  part() { return this.onProcessor("part_processors", state.desk.processor); },
  onProcessor(kind, entry, more = {}) { return this.onStrip(kind, { processor_id: entry.id, ...more }); },
  switchProcessor(entry) { return this.onProcessor("set_processor", entry, { on: !entry.on }); },
  drop(index) {
    if (this.dragged) this.onProcessor("move_processor", this.dragged, { index });
    this.dragged = null;
  },
  moveProcessor(entry, by) {
    return this.onProcessor("move_processor", entry, { index: Math.max(0, state.desk.chain.findIndex((e) => e.id === entry.id) + by) });
  },

  /** What the chosen processor may follow, as [name, words]; names are those of a key in a session. */
  keySources() {
    const strips = [...state.desk.document.order, ...state.desk.document.bus_order].filter((id) => id !== state.desk.stripId);
    const taps = strips.flatMap((id) => {
      const strip = state.desk.document.tracks[id] ?? state.desk.document.buses[id];
      const sides = this.isStereo(strip) ? ["left", "right"].map((side) => [`${id}/after:${side}`, `${strip.name}, ${side}`]) : [];
      const hits = strip.take_id ? [[`${id}/hits`, `${strip.name}, its hits`]] : [];
      return [[`${id}/after`, strip.name], [`${id}/before`, `${strip.name}, before its chain`], [`${id}/fader`, `${strip.name}, after its fader`], ...sides, ...hits];
    });
    const own = state.desk.strip?.take_id ? [["hits", "its own hits"]] : [];
    return [["self", "itself"], ["before", "itself, before the chain"], ...own, ...taps];
  },
  isStereo(strip) { return strip.take_id === undefined || state.desk.session.takes[strip.take_id]?.channels === 2; },
  /** Whether the chosen processor is nothing without another to follow, and has none. */
  get followsNobody() {
    const { processor, kind } = state.desk;
    return Boolean(kind?.wants_key && processor?.settings.key?.source === "self" && !processor.settings.key.also?.length);
  },
  /** Follow the strip that was chosen in a list, and be laid by it. */
  follow(list) {
    const id = list.value;
    list.value = "";
    return id && this.onProcessor("set_processor", state.desk.processor, { settings: { "key.source": `${id}/after` }, lay: true });
  },
  /** A ready curve of a key: its filters as the curve has them, all others off. */
  useKeyCurve(curve, names) {
    const defaults = Object.fromEntries(names.map((name) => [name, state.desk.kind.settings.find((s) => s.name === name).default]));
    const own = Object.fromEntries(Object.entries(curve.settings).map(([name, value]) => [`key.${name}`, value]));
    return this.onProcessor("set_processor", state.desk.processor, { settings: { ...defaults, ...own } });
  },
  /** A rein drawn from one strip to another: the processor chosen there follows it, else one that is made by ties. */
  async tie(from, to) {
    const chosen = to === state.desk.stripId && state.desk.processor?.settings.key ? state.desk.processor : null;
    if (to !== state.desk.stripId) state.desk.select(to);
    const entry = chosen ?? state.desk.chain.find((one) => state.desk.kindOf(one).made_by_tie);
    const settings = { "key.source": `${from}/after` };
    if (entry) {
      state.desk.selectProcessor(entry.id);
      await this.onProcessor("set_processor", entry, { settings, lay: true });
    } else await this.add(state.desk.processors.find((kind) => kind.made_by_tie).type, settings);
  },

  /** All drafts there are and the first four, as {number, name, used, inUse, title}. */
  get draftList() {
    const { drafts = {}, draft = 1, draft_name: own = "" } = state.desk.strip ?? {};
    const numbers = new Set([1, 2, 3, 4, draft, ...Object.keys(drafts).map(Number)]);
    return [...numbers].sort((a, b) => a - b).map((number) => {
      const name = number === draft ? own : drafts[number]?.name ?? "";
      return { number, name, used: number === draft || number in drafts, inUse: number === draft, title: this.draftTitle(number, name) };
    });
  },
  draftTitle(number, name) {
    const called = `draft ${number}${name ? ` “${name}”` : ""}`;
    if (this.copying) return `Copy this chain to ${called}`;
    return state.desk.strip?.drafts[number] || number === state.desk.strip?.draft ? called[0].toUpperCase() + called.slice(1) : `Draft ${number}: begins as a copy`;
  },
  get nextDraft() { return this.draftList[this.draftList.length - 1].number + 1; },
  async showDrafts() {
    this.compared = null;
    kit.parts.drafts.showModal();
    this.chains = (await state.keeping.tried(() => api.chains(state.desk.session.id)))?.chains ?? [];
  },
  /** What differs from this chain to another's, of any session. @param {HTMLSelectElement} list */
  async compareChain(list) {
    const other = this.chains[Number(list.value)];
    list.value = "";
    if (!other) return;
    const { session, stripId, strip } = state.desk;
    const answer = await state.keeping.tried(() => api.chainsCompared(session.id, stripId, other.session, other.strip));
    if (answer) this.compared = { title: `${strip.name} → ${other.label}`, lines: answer.lines.length ? answer.lines : ["They are equal."] };
  },
  /** What differs from the draft in use to another. */
  async compareDraft(number) {
    const { session, stripId, strip } = state.desk;
    const answer = await state.keeping.tried(() => api.draftsCompared(session.id, stripId, strip.draft, number));
    if (answer) this.compared = { title: `Draft ${strip.draft} → ${number}`, lines: answer.lines.length ? answer.lines : ["They are equal."] };
  },
  nameDraft(number, field) {
    if (field.value !== field.defaultValue) this.onStrip("name_draft", { draft: number, name: field.value.trim() });
  },
  removeDraft(number) { this.onStrip("remove_draft", { draft: number }); },
  useDraft(number) {
    if (!state.desk.strip) return;
    const copy = this.copying && number !== state.desk.strip.draft;
    this.copying = false;
    this.onStrip(copy ? "copy_draft" : "use_draft", { draft: number });
  },

  /** The person's own starting points for the chosen processor's type. */
  get yours() { return this.ownPoints.filter((point) => point.type === state.desk.processor?.type); },
  startFrom(list) {
    const own = this.yours.find((point) => point.id === list.value);
    const more = own ? { name: own.name, settings: own.settings } : { name: list.value };
    if (list.value) this.onProcessor("start_from", state.desk.processor, more).then((kept) => { if (kept?.label?.includes("”, ")) state.keeping.tell(`${kept.label}.`); });
    list.value = "";
    list.blur(); // so that the keys work again
  },
  /** The whole chain of the chosen strip, on or passed by. */
  switchChain() { this.change({ kind: "set_strip", strip_id: state.desk.stripId, values: { chain_on: !state.desk.strip.chain_on } }); },
  /** Another kind of compressor in this one's place. */
  changeKind(list) {
    this.onProcessor("change_kind", state.desk.processor, { type: list.value });
    list.blur();
  },
  showPoints() {
    this.pointName = "";
    kit.parts.points.showModal();
  },
  async keepPoints(work) {
    const answer = await state.keeping.tried(work);
    if (answer) this.ownPoints = answer.points;
    return answer;
  },
  async keepPoint() {
    const { type, settings } = state.desk.processor;
    if (this.pointName.trim() && (await this.keepPoints(() => api.keepPoint({ type, name: this.pointName, settings })))) this.pointName = "";
  },
  removePoint(point) { return this.keepPoints(() => api.removePoint(point.id)); },
  pointFile(point) { return api.pointFile(point.id); },
  readPoints(files) {
    for (const file of files) this.keepPoints(() => api.sendFile("/api/points/file", file, () => {}));
  },
});
