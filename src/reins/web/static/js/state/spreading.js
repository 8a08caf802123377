// @ts-check
// Spread: up to nine settings of the chosen processor side by side over what is in view, or its starting points; any of
// them heard and seen where it plays, equally loud, one kept at the end as one step.

import * as api from "../api.js";
import { paintTile } from "../draw/small.js";
import { overlaid, valueAtPath } from "../paths.js";
import { parsed, spoken } from "../values.js";

const FIRST = ["attack_ms", "release_ms", "threshold_db", "ratio", "drive_db"]; // what is spread first, where it is there
const AT_ONCE = 2;
const MOST_S = 60;
const COLUMNS = 240;

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const spreading = (kit, state) => ({
  open: false,
  of: "values", // or starting points
  /** @type {Record<string, string>} */
  can: {},
  /** @type {{path: string, low: number | null, high: number | null}[]} */
  axes: [],
  /** @type {any[]} */
  made: [], // the axes with their values
  /** @type {any[]} */
  tiles: [],
  /** @type {any} */
  here: null, // what is there, measured alike
  heard: -1, // the tile that sounds; -1 is what is there
  refused: "",
  busy: false,

  get columns() { return this.of === "points" ? Math.min(5, Math.max(2, Math.ceil(Math.sqrt(this.tiles.length)))) : 3; },
  get proposes() { return this.open && this.heard >= 0; },
  get paths() { return Object.keys(this.can).map((path) => [path, this.label(path)]); },
  label(path) { return state.movable.nameOf(`${state.desk.processorId}.${path}`, true); },
  chosen(index) { return this.axes[index]?.path ?? ""; },
  range(index) { return this.made[index] ? `${this.said(index, this.made[index].low)} … ${this.said(index, this.made[index].high)}` : ""; },
  said(index, value) {
    const setting = state.movable.settingOf(`${state.desk.processorId}.${this.made[index].path}`);
    return setting ? spoken(value, setting) : String(value);
  },

  toggle(of = "values") {
    if (this.open && this.of === of) this.leave();
    else this.begin(of);
  },
  async begin(of) {
    if (!state.desk.working || !state.desk.hasTake) return;
    this.leave();
    Object.assign(this, { open: true, of, tiles: [], made: [], axes: [], refused: "", heard: -1 });
    state.room.placePictures();
    if (of === "points") return this.askPoints();
    const plan = await this.plan([]);
    if (!plan) return;
    this.can = plan.can;
    const wanted = [...FIRST.filter((path) => path in this.can), ...Object.keys(this.can)].slice(0, 2);
    this.axes = wanted.map((path) => ({ path, low: null, high: null }));
    this.askTiles();
  },
  async plan(axes) {
    const { session, stripId, processorId } = state.desk;
    try {
      return await api.spread(session.id, stripId, processorId, { axes });
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      this.refused = error.message;
      return null;
    }
  },
  async askTiles() {
    this.refused = "";
    this.hear(-1);
    if (!this.axes.length) { this.refused = "Nothing of this processor can be spread: choose another."; return; }
    const plan = await this.plan(this.axes);
    if (!plan || !this.open) return;
    this.made = plan.axes;
    this.tiles = plan.tiles.map(({ settings }) => ({ settings, name: plan.axes.map((axis) => `${this.label(axis.path).toLowerCase()} ${axis.words[axis.values.indexOf(settings[axis.path])]}`).join(", "), sentence: "", figures: null }));
    this.measure();
  },
  async askPoints() {
    const { session, stripId, processorId } = state.desk;
    const answer = await state.keeping.tried(() => api.points(session.id, stripId, processorId));
    if (!answer || !this.open) return;
    this.tiles = answer.tiles.map((tile) => ({ ...tile, figures: null }));
    this.measure();
  },

  /** The passage that is looked at: the loop where it is on, else what is in view. */
  passage() {
    const { loop, sample_rate: rate } = state.desk.document;
    const { start, frames } = kit.view.model;
    const [begin, length] = loop.on && loop.end_frame > loop.start_frame ? [loop.start_frame, loop.end_frame - loop.start_frame] : [Math.max(0, start), frames];
    const most = MOST_S * rate;
    if (length <= most) return { start: Math.round(begin), frames: Math.max(1, Math.round(Math.min(length, state.desk.session.frames - begin))) };
    const middle = Math.min(Math.max(kit.live.position(), begin), begin + length - most);
    return { start: Math.round(middle), frames: most };
  },
  async measure() {
    kit.spreadNumber = (kit.spreadNumber ?? 0) + 1;
    const number = kit.spreadNumber;
    const { session, stripId, processorId } = state.desk;
    const body = { desk: kit.previews.desk, number, processor_id: processorId, columns: COLUMNS, ...this.passage() };
    const waiting = [null, ...this.tiles.keys()];
    kit.spreadAsked?.abort();
    kit.spreadAsked = new AbortController();
    const { signal } = kit.spreadAsked;
    this.busy = true;
    const work = async () => {
      while (waiting.length && number === kit.spreadNumber) {
        const index = waiting.shift() ?? null;
        const answer = await api.tile(session.id, stripId, { ...body, settings: index === null ? {} : this.tiles[index].settings }, signal);
        if (number !== kit.spreadNumber) return;
        if (index === null) this.here = answer;
        else this.tiles[index] = { ...this.tiles[index], ...answer };
        state.desk.$nextTick(() => this.paint(index));
      }
    };
    try {
      await Promise.all(Array.from({ length: AT_ONCE }, work));
    } catch (error) {
      if (api.overtaken(error)) return;
      if (!(error instanceof api.ApiError)) throw error;
      if (number === kit.spreadNumber) this.refused = error.message;
    } finally {
      if (number === kit.spreadNumber) this.busy = false;
    }
  },
  stop() {
    kit.spreadAsked?.abort();
    kit.spreadNumber = (kit.spreadNumber ?? 0) + 1;
    this.busy = false;
  },
  paint(index) {
    const place = kit.parts.tiles?.querySelector(`[data-tile="${index ?? -1}"] canvas`);
    const tile = index === null ? this.here : this.tiles[index];
    if (place && tile?.held_db) paintTile(place, tile);
  },
  paintAll() { [null, ...this.tiles.keys()].forEach((index) => this.paint(index)); },
  figures(tile) {
    if (!tile?.figures) return "…";
    const { usual_db: usual, deepest_db: deepest, crest_db: crest, integrated_lufs: lufs, held_pct: held } = tile.figures;
    const signed = (value) => `${value < 0 ? "−" : value > 0 ? "+" : ""}${Math.abs(value).toFixed(1)}`;
    const more = [crest === null ? "" : `crest ${crest.toFixed(1)} dB`, lufs === null ? "" : `${signed(lufs)} LUFS`].filter(Boolean);
    return `usual ${signed(usual)}, deepest ${signed(deepest)} dB\nheld ${Math.round(held)} %${more.length ? ` · ${more.join(" · ")}` : ""}`;
  },

  /** Hear and see a tile, or what is there: all settings that any tile changes go along, so that none is left over.
   * @param {number} index */
  hear(index) {
    const own = state.desk.processor?.settings;
    if (!own) return;
    this.heard = index;
    kit.parts.tiles?.querySelector(`[data-tile="${index}"]`)?.focus({ preventScroll: true }); // so that keys are its own
    const paths = new Set(this.tiles.flatMap(({ settings }) => Object.keys(settings)));
    const there = Object.fromEntries([...paths].map((path) => [path, valueAtPath(own, path)]));
    const tile = this.tiles[index];
    kit.attempted = {};
    state.otherwise.gains = this.gain(tile);
    state.otherwise.tell();
    if (paths.size) state.trying.attemptMany({ ...there, ...(tile?.settings ?? {}) });
    kit.bench.set(overlaid(own, kit.attempted));
  },
  /** By how much a tile is made as loud as what is there. */
  gain(tile) {
    const [loud, there] = [tile?.figures?.integrated_lufs, this.here?.figures?.integrated_lufs];
    if (typeof loud !== "number" || typeof there !== "number") return {};
    return { [state.desk.stripId]: Math.max(-24, Math.min(24, there - loud)) };
  },
  async take() {
    const tile = this.tiles[this.heard];
    if (!tile) return;
    const shipped = this.of === "points" && state.desk.kind.points.some(({ name }) => name === tile.name);
    this.close();
    if (shipped) await state.editing.onProcessor("start_from", state.desk.processor, { name: tile.name });
    else await state.trying.keepMany(tile.settings);
  },
  /** Half the range, about the tile that is heard. */
  narrow() {
    const tile = this.tiles[this.heard];
    if (!tile || !this.made.length) return;
    this.axes = this.made.map(({ path, values }) => {
      const at = values.indexOf(tile.settings[path]);
      return { path, low: values[Math.max(at - 1, 0)], high: values[Math.min(at + 1, values.length - 1)] };
    });
    this.askTiles();
  },
  setAxis(index, path) {
    const axes = this.axes.slice();
    if (path) axes[index] = { path, low: null, high: null };
    else axes.splice(index, 1);
    this.axes = axes.filter((axis, place) => axes.findIndex((other) => other.path === axis.path) === place);
    this.askTiles();
  },
  /** A range typed as "1 … 50", with units or without; nothing for the usual one. */
  setRange(index, field) {
    const { path } = this.axes[index];
    const setting = state.movable.settingOf(`${state.desk.processorId}.${path}`);
    const parts = field.value.split(/…|\.\.\.|\bto\b/);
    try {
      const ends = field.value.trim() && setting ? parts.map((part) => parsed(part, setting, state.desk.document.tempo_bpm)) : [null, null];
      if (ends.length !== 2) throw new Error("A range is two values, as “1 … 50”; nothing for the usual one.");
      this.axes[index] = { path, low: ends[0], high: ends[1] };
      this.askTiles();
    } catch (error) {
      this.refused = /** @type {Error} */ (error).message;
      field.value = this.range(index);
    }
  },

  /** @param {KeyboardEvent} event @returns {boolean} whether the key was for the spread */
  key(event) {
    if (!this.open || event.ctrlKey || event.metaKey || event.altKey) return false;
    const digit = /^[0-9]$/.test(event.key) && !event.shiftKey ? Number(event.key) : null;
    const step = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -this.columns, ArrowDown: this.columns }[event.key];
    if (digit !== null && digit <= this.tiles.length) this.hear(digit - 1);
    else if (step !== undefined) this.hear(Math.min(this.tiles.length - 1, Math.max(0, this.heard < 0 ? 0 : this.heard + step)));
    else if (event.key === "Enter" && this.heard >= 0 && !(/** @type {Element} */ (event.target).closest("button:not([data-tile])"))) this.take();
    else if (event.key === "Escape") this.leave();
    else return false;
    return true;
  },
  /** Close without hearing what is there first. */
  close() {
    this.stop();
    Object.assign(this, { open: false, heard: -1, here: null });
    state.otherwise.gains = {};
    kit.attempted = {};
    kit.live.send({ type: "untried" });
    state.otherwise.tell();
    state.room.placePictures();
  },
  leave() {
    if (!this.open) return;
    this.close();
    state.desk.showAll();
  },
  changeBench() { if (this.open) this.close(); },
});
