// @ts-check
// Several strips at once: chosen together and moved together, found by typing; solos and drafts kept under a name; a whole
// chain copied, kept and laid.

import * as api from "../api.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data of the page
 */
export const together = (kit, state, data) => ({
  find: "",
  /** @type {string[]} */
  chosen: [],
  setName: "",
  chainName: "",
  /** @type {string[]} */
  copyTo: [],

  get order() { return [...state.desk.document.order, ...state.desk.document.bus_order]; },
  nameOf(id) { return (state.desk.document.tracks[id] ?? state.desk.document.buses[id])?.name ?? ""; },

  /** Show only strips whose name holds what is typed. */
  filter() { kit.list.filter(this.find); },
  /** Go to the first that is found, and show all again. */
  goToFound() {
    const wanted = this.find.trim().toLowerCase();
    const found = this.order.find((id) => wanted && this.nameOf(id).toLowerCase().includes(wanted));
    this.leaveFinding();
    if (found) state.desk.select(found);
  },
  leaveFinding() {
    this.find = "";
    this.filter();
    kit.parts.find.blur(); // so that the keys work again
  },

  /** Add a strip to those chosen together, or let it go; with `all`, all from the one worked on to it. */
  choose(id, all) {
    if (id === "master") return;
    const begun = this.chosen.length ? this.chosen : [state.desk.stripId].filter((one) => one !== "master");
    const [from, to] = [this.order.indexOf(state.desk.stripId), this.order.indexOf(id)].sort((a, b) => a - b);
    if (all && from >= 0) this.chosen = [...new Set([...begun, ...this.order.slice(from, to + 1)])];
    else this.chosen = begun.includes(id) && begun.length > 1 ? begun.filter((one) => one !== id) : [...new Set([...begun, id])];
    if (this.chosen.length < 2) this.chosen = [];
    kit.list.markChosen(this.chosen);
  },
  letGo() {
    this.chosen = [];
    kit.list.markChosen([]);
  },
  get chosenWord() { return `${this.chosen.length} move together`; },

  /** Values of a strip, for it and for all that are chosen with it: numbers move by as much, choices are the same. */
  spread(id, values) {
    const { document } = state.desk;
    const strips = { ...document.tracks, ...document.buses, master: document.master };
    const members = this.chosen.includes(id) ? this.chosen.filter((one) => strips[one]) : [id];
    const moved = (one) => Object.fromEntries(Object.entries(values).filter(([name]) => name in strips[one]).map(([name, value]) => {
      const limits = data.stripSettings.track.find((setting) => setting.name === name);
      if (one === id || typeof value !== "number" || !limits) return [name, value];
      return [name, Math.min(limits.high, Math.max(limits.low, strips[one][name] + value - strips[id][name]))];
    }));
    return Object.fromEntries(members.map((one) => [one, moved(one)]));
  },
  attempt(id, values) {
    for (const [one, own] of Object.entries(this.spread(id, values))) {
      kit.live.send({ type: "try_strip", strip_id: one, values: own });
      if (one !== id) kit.list.showValues(one, own);
    }
  },
  keep(id, values) {
    const all = this.spread(id, values);
    const one = Object.keys(all).length === 1;
    return state.editing.change(one ? { kind: "set_strip", strip_id: id, values } : { kind: "set_strips", values: all });
  },
  attemptDeeper(id, by) { kit.live.send({ type: "try_deeper", strip_id: id, by_db: by }); },
  keepDeeper(id, by) { return state.editing.change({ kind: "deepen", strip_id: id, by_db: by }); },
  /** A bus of those that are chosen. */
  beginBus() {
    state.editing.beginBus();
    state.editing.busMembers = [...this.chosen];
  },

  get soloSets() { return Object.entries(state.desk.document.solo_sets).map(([name, ids]) => ({ name, said: ids.map((id) => this.nameOf(id)).filter(Boolean).join(", ") })); },
  get draftSets() { return Object.entries(state.desk.document.draft_sets).map(([name, drafts]) => ({ name, said: this.draftsSaid(drafts) })); },
  draftsSaid(drafts) {
    const other = Object.entries(drafts).filter(([id, draft]) => draft !== 1 && (id === "master" || this.nameOf(id)));
    return other.length ? other.map(([id, draft]) => `${this.nameOf(id) || "Master"} ${draft}`).join(", ") : "draft 1 everywhere";
  },
  showSets() {
    this.setName = "";
    kit.parts.sets.showModal();
  },
  async keepSet(what) {
    if (this.setName.trim() && (await state.editing.change({ kind: "keep_set", what, name: this.setName.trim() }))) this.setName = "";
  },
  useSet(what, name) { return state.editing.change({ kind: "use_set", what, name }); },
  removeSet(what, name) { return state.editing.change({ kind: "remove_set", what, name }); },

  get others() { return [...this.order, "master"].filter((id) => id !== state.desk.stripId).map((id) => ({ id, name: this.nameOf(id) || "Master" })); },
  get ownChains() { return state.editing.ownPoints.filter((point) => point.type === "chain"); },
  chainSaid(point) { return point.settings.processors.map((one) => state.desk.processors.find(({ type }) => type === one.type)?.label ?? one.type).join(", "); },
  showChain() {
    this.chainName = "";
    this.copyTo = this.chosen.filter((id) => id !== state.desk.stripId);
    kit.parts.wholechain.showModal();
  },
  async copyChain() {
    if (!this.copyTo.length) return;
    const kept = await state.editing.change({ kind: "copy_chain", strip_id: state.desk.stripId, to: [...this.copyTo] });
    if (!kept) return;
    kit.parts.wholechain.close();
    state.keeping.tell(`${kept.label}. One undo brings back what was there.`);
  },
  async keepChain() {
    const { session, stripId } = state.desk;
    if (this.chainName.trim() && (await state.editing.keepPoints(() => api.keepChain(session.id, stripId, this.chainName)))) this.chainName = "";
  },
  async layChain(point) {
    kit.parts.wholechain.close();
    state.editing.adding = false;
    await state.editing.change({ kind: "lay_chain", strip_id: state.desk.stripId, name: point.name, processors: point.settings.processors });
  },
});
