// Reins of the chosen strip: which there are, which is on the bench, and what its pictures show.

import * as api from "../api.js";
import { GRIDS, KINDS, ReinBench } from "../benches/reinbench.js";
import { extent, whole } from "../bends.js";
import { LineDrawing } from "../draw/line.js";
import { newId } from "./editing.js";
import { valueAtPath } from "../paths.js";
import { spoken } from "../values.js";
import { CurveHand } from "../views/curvehand.js";

const ASK_MS = 60;
const WORDS = { beat: "beat", key: "key", line: "by hand" };
const STEP_BACK_DB = 12;

/** Where a setting goes when nothing else is said: 12 dB down, two octaves down, up from where it is down already, or
 * to its lower end. */
function awayFrom(setting, rest) {
  if (setting.unit === "dB") return Math.max(setting.low, rest - STEP_BACK_DB);
  if (setting.unit === "Hz") {
    const hz = rest || setting.off_as;
    return hz / 4 < 2 * (setting.least ?? setting.low) ? Math.min(setting.high, hz * 16) : hz / 4;
  }
  return setting.low;
}

/**
 * @param {object} kit the desk's parts that Alpine must not see
 * @param {{reins: object, stripSettings: object, processors: object[]}} data
 * Needs of the desk: document, strip, stripId, session, chain, change, select, selectProcessor, showAll, tried.
 */
export const reins = (kit, data) => ({
  reinId: null,
  moving: null, // the setting a rein is being chosen for
  foldKey: "",
  grid: "1/16",
  shapes: data.reins.shapes,
  grids: GRIDS,

  get reins() { return this.strip?.reins ?? []; },
  get rein() { return this.reins.find(({ id }) => id === this.reinId) ?? null; },
  get reinKind() { return this.rein?.by.kind ?? ""; },
  get reinTitle() { return this.rein ? KINDS[this.reinKind] : ""; },
  get movingName() { return this.moving ? this.nameOfWhat(this.moving) : ""; },
  reinWords(rein) {
    const [first, ...more] = rein.moves.map(({ what }) => this.nameOfWhat(what, true));
    return `${first}${more.length ? ` +${more.length}` : ""} · ${WORDS[rein.by.kind]}`;
  },
  isChosenRein(rein) { return rein.id === this.reinId; },

  beginReins() {
    kit.reins = new ReinBench(kit.parts.reinbench, {
      catalogue: data.reins,
      settingOf: (what) => this.settingOfWhat(what), nameOf: (what) => this.nameOfWhat(what), restOf: (what) => this.restOfWhat(what),
      attempt: (rein) => this.attemptRein(rein), keep: (rein) => this.keepRein(rein),
      sources: () => this.keySources(), tempo: () => this.document.tempo_bpm, go: (what) => this.showSetting(what),
    });
    const view = kit.view;
    const seconds = () => view.model.sampleRate;
    kit.lineDrawing = new LineDrawing(kit.parts.take.querySelector(".line-hand"));
    kit.lineHand = new CurveHand(kit.parts.take.querySelector(".line-hand"), {
      axes: () => view.lineAxes(),
      draw: (points, axes) => kit.lineDrawing.draw(points, axes, view.model.drawn),
      snap: (at) => at, limit: (value) => view.lineLimit(value), ends: false, most: 100000, addBy: "click",
      step: () => view.model.frames / seconds() / 100,
      word: ([at, value]) => `${at.toFixed(2)} s, ${spoken(value, view.model.drawn.setting)}`,
      attempt: (points) => this.attemptRein({ ...this.rein, by: { ...this.rein.by, points } }),
      keep: (points) => this.keepRein({ ...this.rein, by: { ...this.rein.by, points } }),
    });
    kit.parts.take.querySelector(".line-hand").addEventListener("wheel", (event) => view.wheel(event), { passive: false });
    for (const name of ["floor", "ceiling"]) this.beginLevel(name);
  },

  /** A line on the take for a level of the key: dragged, or moved by arrows. */
  beginLevel(name) {
    const handle = kit.parts.take.querySelector(`.rein-${name}`);
    const put = (db) => {
      const { floor_db: floor, ceiling_db: ceiling } = kit.reins.rein.by;
      const value = Math.round(2 * (name === "floor" ? Math.min(db, ceiling - 1) : Math.max(db, floor + 1))) / 2;
      kit.reins.try({ [`${name}_db`]: Math.min(12, Math.max(-100, value)) });
    };
    handle.addEventListener("pointerdown", (event) => {
      event.preventDefault();
      handle.setPointerCapture(event.pointerId);
      const { top } = kit.parts.take.getBoundingClientRect();
      const move = (moved) => put(kit.view.place.level(moved.clientY - top));
      handle.addEventListener("pointermove", move);
      handle.addEventListener("lostpointercapture", () => {
        handle.removeEventListener("pointermove", move);
        this.keepRein(kit.reins.rein);
      }, { once: true });
    });
    handle.addEventListener("keydown", (event) => {
      const by = { ArrowUp: 0.5, ArrowDown: -0.5 }[event.key];
      if (!by) return;
      event.preventDefault();
      event.stopPropagation();
      put(kit.reins.rein.by[`${name}_db`] + by * (event.shiftKey ? 1 : 2));
      clearTimeout(kit.levelKept);
      kit.levelKept = setTimeout(() => this.keepRein(kit.reins.rein), 400);
    });
  },

  /** The description of what a rein of a strip names; null where it is not there. */
  settingOfWhat(what, strip = this.strip) {
    const [id, ...path] = what.split(".");
    const name = path.join(".");
    if (id === "strip") return this.movedOfStrip(strip).find((s) => s.name === name) ?? null;
    const entry = strip.chain.find((one) => one.id === id);
    const settings = entry ? this.kindOf(entry).settings : [];
    const list = settings.find((s) => s.name === path[0] && s.kind === "list");
    if (!list) return settings.find((s) => s.name === name) ?? null;
    if (path.length === 2) return { ...list, kind: "number", label: `${list.label} ${Number(path[1]) + 1}`, default: list.default[path[1]] ?? list.high };
    const field = list.fields.find((f) => f.name === path.slice(2).join("."));
    return field ? { ...field, label: `${Number(path[1]) + 1} ${field.label.toLowerCase()}` } : null;
  },
  /** Of a strip itself, that what may be moved; the master has no pan. */
  movedOfStrip(strip) { return data.stripSettings["pan_pct" in strip ? "track" : "master"].filter(({ name }) => /fader_db|pan_pct/.test(name)); },
  nameOfWhat(what, brief = false, strip = this.strip) {
    const [id] = what.split(".");
    const label = this.settingOfWhat(what, strip)?.label ?? what;
    if (id === "strip" || brief) return label;
    const entry = strip.chain.find((one) => one.id === id);
    return entry ? `${this.labelOf(entry)}: ${label.toLowerCase()}` : label;
  },
  restOfWhat(what) {
    const [id, ...path] = what.split(".");
    const settings = id === "strip" ? this.strip : this.chain.find((one) => one.id === id)?.settings;
    return settings ? valueAtPath(settings, path.join(".")) : 0;
  },
  /** All that may be moved on the strip, as [what, words], without what the rein moves already. */
  get movables() {
    const known = new Set(this.rein?.moves.map(({ what }) => what));
    const numbers = (prefix, settings) => settings.filter((s) => s.kind === "number" && s.moves).map((s) => `${prefix}.${s.name}`);
    const strip = numbers("strip", this.movedOfStrip(this.strip));
    const whats = this.chain.flatMap((entry) => this.kindOf(entry).settings.flatMap((s) => {
      if (s.kind !== "list") return numbers(entry.id, [s]);
      return valueAtPath(entry.settings, s.name).flatMap((_, index) => (s.fields.length ? numbers(`${entry.id}.${s.name}.${index}`, s.fields) : [`${entry.id}.${s.name}.${index}`]));
    }));
    return [...strip, ...whats].filter((what) => !known.has(what)).map((what) => [what, this.nameOfWhat(what)]);
  },

  /** A new rein of a kind over a setting, the fader where none is named; it goes to the bench. */
  async addRein(kind, what = "strip.fader_db") {
    this.adding = false;
    kit.parts.moving.close();
    const id = newId();
    const rest = this.restOfWhat(what);
    const setting = this.settingOfWhat(what);
    const by = {
      beat: () => ({ kind, points: data.reins.shapes[0].points }),
      key: () => ({ kind, key: { source: this.firstKey() } }),
      line: () => ({ kind, points: [[0, rest === 0 && setting.off_as ? setting.off_as : rest, 0]] }),
    }[kind]();
    const moves = [{ what, ...(kind === "line" ? {} : { to: awayFrom(setting, rest) }) }];
    if (await this.change({ kind: "put_rein", strip_id: this.stripId, rein_id: id, rein: { moves, by } })) this.selectRein(id);
  },
  /** Whom a new rein by a key follows: whom the strip follows already, else the first track that may be followed. */
  firstKey() {
    const tied = this.chain.map(({ settings }) => settings.key?.source).find((source) => source && source !== "self" && source !== "before");
    const other = this.document.order.find((id) => id !== this.stripId && this.document.tracks[id].take_id);
    return tied ?? (other ? `${other}/after` : "self");
  },
  selectRein(id) {
    this.reinId = id;
    kit.followed = null; // of another
    this.showAll();
  },
  leaveRein() {
    this.reinId = null;
    this.showAll();
  },
  keepRein(rein) {
    const { id, ...more } = rein;
    return this.change({ kind: "put_rein", strip_id: this.stripId, rein_id: id, rein: more });
  },
  switchRein(rein) { return this.keepRein({ ...rein, on: !rein.on }); },
  removeRein(rein) { return this.change({ kind: "remove_rein", strip_id: this.stripId, rein_id: rein.id }); },
  attemptRein(rein) {
    const { id, ...more } = JSON.parse(JSON.stringify(rein)); // Alpine's proxies cannot be sent to the worker
    kit.live.send({ type: "try_rein", strip_id: this.stripId, rein_id: id, rein: more });
    kit.triedRein = rein;
    if (rein.by.kind === "line") kit.view.model.drawn.points = rein.by.points; // the hand draws it
    else this.drawRein(rein);
    this.askFollowed();
  },
  alsoMove(list) {
    const what = list.value;
    list.value = "";
    list.blur();
    if (what) this.keepRein({ ...this.rein, moves: [...this.rein.moves, { what, to: awayFrom(this.settingOfWhat(what), this.restOfWhat(what)) }] });
  },
  useShape(list) {
    const shape = this.shapes.find(({ name }) => name === list.value);
    list.value = "";
    list.blur();
    if (shape) this.keepRein({ ...this.rein, by: { ...this.rein.by, points: shape.points } });
  },
  async takeCurve(list) {
    const source = list.value;
    list.value = "";
    list.blur();
    const { beats, offset_beats: offset } = this.rein.by;
    const curve = source && (await this.tried(() => api.beatCurve(this.session.id, { source, beats, offset_beats: offset })));
    if (curve) this.keepRein({ ...this.rein, by: { ...this.rein.by, points: curve.points } });
  },
  setGrid(list) {
    this.grid = list.value;
    kit.reins.grid = Number(list.selectedOptions[0].dataset.beats);
    kit.reins.paint();
    list.blur();
  },
  layKey(list) {
    this.foldKey = list.value;
    list.blur();
    this.askFold();
  },

  /** From a setting to its rein, or to the choice of one. */
  reinFor(what) {
    const known = this.reins.find(({ moves }) => moves.some((move) => move.what === what));
    if (known) return this.selectRein(known.id);
    this.moving = what;
    kit.parts.moving.showModal();
  },
  /** From a rein to a setting it moves. */
  showSetting(what) {
    const [id] = what.split(".");
    if (id === "strip") return this.leaveRein();
    this.selectProcessor(id);
  },
  /** Every rein of the session, as {stripId, strip, rein, words}. */
  get allReins() {
    const { tracks, buses, order, bus_order: busOrder, master } = this.document;
    return [...order, ...busOrder, "master"].flatMap((id) => {
      const strip = tracks[id] ?? buses[id] ?? master;
      return strip.reins.map((rein) => ({ stripId: id, strip: strip.name, rein, follows: this.followsWords(rein), words: rein.moves.map(({ what }) => this.nameOfWhat(what, false, strip)).join(", ") }));
    });
  },
  followsWords(rein) {
    if (rein.by.kind !== "key") return { beat: `every ${rein.by.beats} beats`, line: `${rein.by.points?.length} points` }[rein.by.kind];
    const id = rein.by.key.source.split("/")[0];
    return `follows ${(this.document.tracks[id] ?? this.document.buses[id])?.name ?? "itself"}`;
  },
  showReins() { kit.parts.reinlist.showModal(); },
  visitRein({ stripId, rein }) {
    kit.parts.reinlist.close();
    this.select(stripId);
    this.selectRein(rein.id);
  },

  /** Show the rein on the bench and on the take. */
  showRein() {
    kit.triedRein = null;
    if (this.reinId && !this.rein) this.reinId = null;
    this.drawRein(this.rein);
    kit.bench.markMoved(this.movedSpans(this.processorId ?? ""));
    kit.list.markMoved(this.stripId, this.movedSpans("strip"));
    if (!this.rein) return;
    kit.reins.show(this.rein);
    this.askFold();
    this.askFollowed();
  },
  drawRein(rein) {
    const kind = rein?.by.kind;
    const setting = kind === "line" ? this.settingOfWhat(rein.moves[0].what) : null;
    const drawn = setting && { setting, points: whole(rein.by.points), rest: this.restOfWhat(rein.moves[0].what) };
    kit.view.show({ drawn: drawn ?? null, follow: kind === "key" ? { ...kit.followed, floor: rein.by.floor_db, ceiling: rein.by.ceiling_db } : null });
    if (drawn) kit.lineHand.show(drawn.points);
  },
  /** By setting of a processor, or of the strip, from where to where reins take it. */
  movedSpans(id) {
    const spans = {};
    for (const rein of this.reins.filter(({ on }) => on)) for (const { what, to } of rein.moves) {
      const [whose, ...path] = what.split(".");
      if (whose !== id) continue;
      const values = rein.by.kind === "line" ? rein.by.points.map((point) => point[1]) : [to];
      const name = path.join(".");
      spans[name] = extent([...(spans[name] ?? []), ...extent(values)]);
    }
    return spans;
  },

  /** Ask for the sound folded over the beat. */
  async askFold() {
    if (this.reinKind !== "beat") return;
    const { beats, offset_beats: offset } = this.rein.by;
    const of = JSON.stringify([this.stripId, beats, offset, this.foldKey, this.document.tempo_bpm]);
    if (of !== kit.foldOf) kit.reins.fold = kit.foldWanted = null; // that of another is no picture of this
    kit.foldOf = of;
    kit.reins.paint();
    if (this.empty || !this.hasTake) return;
    const wanted = `${of} ${this.isTrack ? this.strip.take_id : this.session.step}`;
    if (wanted === kit.foldWanted) return;
    kit.foldWanted = wanted;
    kit.foldNumber = (kit.foldNumber ?? 0) + 1;
    const body = { desk: kit.previews.desk, number: kit.foldNumber, beats, offset_beats: offset, key: this.foldKey };
    const fold = await this.tried(() => api.folded(this.session.id, this.stripId, body));
    if (!fold || fold.number !== kit.foldNumber) return;
    kit.reins.fold = fold;
    kit.reins.paint();
  },
  /** Ask for the level of the key in view, and the value it makes; soon, so that a drag asks once. */
  askFollowed() {
    if (this.reinKind !== "key" || this.empty || !this.hasTake || kit.followSoon) return;
    kit.followSoon = setTimeout(async () => {
      kit.followSoon = null;
      if (this.reinKind !== "key") return;
      const { start, frames } = kit.view.model;
      kit.followNumber = (kit.followNumber ?? 0) + 1;
      const body = { desk: kit.previews.desk, number: kit.followNumber, rein: kit.triedRein ?? this.rein, start, frames, columns: Math.min(1200, kit.view.columns) };
      kit.following?.abort();
      kit.following = new AbortController();
      try {
        const answer = await api.followed(this.session.id, this.stripId, body, kit.following.signal);
        if (answer.number !== kit.followNumber) return;
        kit.followed = answer;
        this.drawRein(kit.triedRein ?? this.rein);
      } catch (error) {
        if (error.name === "AbortError") return; // a newer question has overtaken this one
        if (!(error instanceof api.ApiError)) throw error;
        this.complain(error.message);
      }
    }, ASK_MS);
  },

  /** What reins make of settings now, as ghosts of their beads. */
  drawMoved(moved) {
    for (const [what, value] of Object.entries(moved ?? {})) {
      const [id, ...path] = what.split(".");
      if (id === "strip") kit.list.ghost(this.stripId, path.join("."), value);
      else if (id === this.processorId) kit.bench.controls.get(path.join("."))?.ghostAt?.(value);
    }
  },
});
