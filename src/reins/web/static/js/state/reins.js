// @ts-check
// Reins of the chosen strip: which there are, which is on the bench, and what its pictures show.

import * as api from "../api.js";
import { GRIDS, KINDS, ReinBench } from "../benches/reinbench.js";
import { extent, whole } from "../bends.js";
import { LineDrawing } from "../draw/line.js";
import { newId } from "./editing.js";
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
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data of the page
 */
export const reins = (kit, state, data) => ({
  reinId: null,
  moving: null, // the setting a rein is being chosen for
  foldKey: "",
  grid: "1/16",
  shapes: data.reins.shapes,
  grids: GRIDS,

  get list() { return state.desk.strip?.reins ?? []; },
  get rein() { return this.list.find(({ id }) => id === this.reinId) ?? null; },
  get reinKind() { return this.rein?.by.kind ?? ""; },
  get reinTitle() { return this.rein ? KINDS[this.reinKind] : ""; },
  get movingName() { return this.moving ? state.movable.nameOf(this.moving) : ""; },
  reinWords(rein) {
    const [first, ...more] = rein.moves.map(({ what }) => state.movable.nameOf(what, true));
    return `${first}${more.length ? ` +${more.length}` : ""} · ${WORDS[rein.by.kind]}`;
  },
  isChosenRein(rein) { return rein.id === this.reinId; },

  beginReins() {
    kit.reins = new ReinBench(kit.parts.reinbench, {
      catalogue: data.reins,
      settingOf: (what) => state.movable.settingOf(what), nameOf: (what) => state.movable.nameOf(what), restOf: (what) => state.movable.restOf(what),
      attempt: (rein) => this.attemptRein(rein), keep: (rein) => this.keepRein(rein),
      sources: () => state.editing.keySources(), tempo: () => state.desk.document.tempo_bpm, go: (what) => this.showSetting(what),
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

  /** A new rein of a kind over a setting, the fader where none is named; it goes to the bench. */
  async addRein(kind, what = "strip.fader_db") {
    state.editing.adding = false;
    kit.parts.moving.close();
    const id = newId();
    const rest = state.movable.restOf(what);
    const setting = state.movable.settingOf(what);
    const by = {
      beat: () => ({ kind, points: data.reins.shapes[0].points }),
      key: () => ({ kind, key: { source: this.firstKey() } }),
      line: () => ({ kind, points: [[0, rest === 0 && setting.off_as ? setting.off_as : rest, 0]] }),
    }[kind]();
    const moves = [{ what, ...(kind === "line" ? {} : { to: awayFrom(setting, rest) }) }];
    if (await state.editing.change({ kind: "put_rein", strip_id: state.desk.stripId, rein_id: id, rein: { moves, by } })) this.selectRein(id);
  },
  /** Whom a new rein by a key follows: whom the strip follows already, else the first track that may be followed. */
  firstKey() {
    const tied = state.desk.chain.map(({ settings }) => settings.key?.source).find((source) => source && source !== "self" && source !== "before");
    const other = state.desk.document.order.find((id) => id !== state.desk.stripId && state.desk.document.tracks[id].take_id);
    return tied ?? (other ? `${other}/after` : "self");
  },
  selectRein(id) {
    this.reinId = id;
    kit.followed = null; // of another
    state.desk.showAll();
  },
  leaveRein() {
    this.reinId = null;
    state.desk.showAll();
  },
  keepRein(rein) {
    const { id, ...more } = rein;
    return state.editing.change({ kind: "put_rein", strip_id: state.desk.stripId, rein_id: id, rein: more });
  },
  switchRein(rein) { return this.keepRein({ ...rein, on: !rein.on }); },
  removeRein(rein) { return state.editing.change({ kind: "remove_rein", strip_id: state.desk.stripId, rein_id: rein.id }); },
  attemptRein(rein) {
    const { id, ...more } = JSON.parse(JSON.stringify(rein)); // Alpine's proxies cannot be sent to the worker
    kit.live.send({ type: "try_rein", strip_id: state.desk.stripId, rein_id: id, rein: more });
    kit.triedRein = rein;
    if (rein.by.kind === "line") kit.view.model.drawn.points = rein.by.points; // the hand draws it
    else this.drawRein(rein);
    this.askFollowed();
  },
  alsoMove(list) {
    const what = list.value;
    list.value = "";
    list.blur();
    if (what) this.keepRein({ ...this.rein, moves: [...this.rein.moves, { what, to: awayFrom(state.movable.settingOf(what), state.movable.restOf(what)) }] });
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
    const curve = source && (await state.keeping.tried(() => api.beatCurve(state.desk.session.id, { source, beats, offset_beats: offset })));
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
    const known = this.list.find(({ moves }) => moves.some((move) => move.what === what));
    if (known) return this.selectRein(known.id);
    this.moving = what;
    kit.parts.moving.showModal();
  },
  /** From a rein to a setting it moves. */
  showSetting(what) {
    const [id] = what.split(".");
    if (id === "strip") return this.leaveRein();
    state.desk.selectProcessor(id);
  },
  /** Every rein of the session, as {stripId, strip, rein, words}. */
  get allReins() {
    const { tracks, buses, order, bus_order: busOrder, master } = state.desk.document;
    return [...order, ...busOrder, "master"].flatMap((id) => {
      const strip = tracks[id] ?? buses[id] ?? master;
      return strip.reins.map((rein) => ({ stripId: id, strip: strip.name, rein, follows: this.followsWords(rein), words: rein.moves.map(({ what }) => state.movable.nameOf(what, false, strip)).join(", ") }));
    });
  },
  followsWords(rein) {
    if (rein.by.kind !== "key") return { beat: `every ${rein.by.beats} beats`, line: `${rein.by.points?.length} points` }[rein.by.kind];
    const id = rein.by.key.source.split("/")[0];
    return `follows ${(state.desk.document.tracks[id] ?? state.desk.document.buses[id])?.name ?? "itself"}`;
  },
  showReins() { kit.parts.reinlist.showModal(); },
  visitRein({ stripId, rein }) {
    kit.parts.reinlist.close();
    state.desk.select(stripId);
    this.selectRein(rein.id);
  },

  /** Show the rein on the bench and on the take. */
  showRein() {
    kit.triedRein = null;
    if (this.reinId && !this.rein) this.reinId = null;
    this.drawRein(this.rein);
    kit.bench.markMoved(this.movedSpans(state.desk.processorId ?? ""));
    kit.list.markMoved(state.desk.stripId, this.movedSpans("strip"));
    if (!this.rein) return;
    kit.reins.show(this.rein);
    this.askFold();
    this.askFollowed();
  },
  drawRein(rein) {
    const kind = rein?.by.kind;
    const setting = kind === "line" ? state.movable.settingOf(rein.moves[0].what) : null;
    const drawn = setting && { setting, points: whole(rein.by.points), rest: state.movable.restOf(rein.moves[0].what) };
    kit.view.show({ drawn: drawn ?? null, follow: kind === "key" ? { ...kit.followed, floor: rein.by.floor_db, ceiling: rein.by.ceiling_db } : null });
    if (drawn) kit.lineHand.show(drawn.points);
  },
  /** By setting of a processor, or of the strip, from where to where reins take it. */
  movedSpans(id) {
    const spans = {};
    for (const rein of this.list.filter(({ on }) => on)) for (const { what, to } of rein.moves) {
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
    const of = JSON.stringify([state.desk.stripId, beats, offset, this.foldKey, state.desk.document.tempo_bpm]);
    if (of !== kit.foldOf) kit.reins.fold = kit.foldWanted = null; // that of another is no picture of this
    kit.foldOf = of;
    kit.reins.paint();
    if (state.desk.empty || !state.desk.hasTake) return;
    const wanted = `${of} ${state.desk.isTrack ? state.desk.strip.take_id : state.desk.session.step}`;
    if (wanted === kit.foldWanted) return;
    kit.foldWanted = wanted;
    kit.foldNumber = (kit.foldNumber ?? 0) + 1;
    const body = { desk: kit.previews.desk, number: kit.foldNumber, beats, offset_beats: offset, key: this.foldKey };
    const fold = await state.keeping.tried(() => api.folded(state.desk.session.id, state.desk.stripId, body));
    if (!fold || fold.number !== kit.foldNumber) return;
    kit.reins.fold = fold;
    kit.reins.paint();
  },
  /** Ask for the level of the key in view, and the value it makes; soon, so that a drag asks once. */
  askFollowed() {
    if (this.reinKind !== "key" || state.desk.empty || !state.desk.hasTake || kit.followSoon) return;
    kit.followSoon = setTimeout(async () => {
      kit.followSoon = null;
      if (this.reinKind !== "key") return;
      const { start, frames } = kit.view.model;
      kit.followNumber = (kit.followNumber ?? 0) + 1;
      const body = { desk: kit.previews.desk, number: kit.followNumber, rein: kit.triedRein ?? this.rein, start, frames, columns: Math.min(1200, kit.view.columns) };
      kit.following?.abort();
      kit.following = new AbortController();
      try {
        const answer = await api.followed(state.desk.session.id, state.desk.stripId, body, kit.following.signal);
        if (answer.number !== kit.followNumber) return;
        kit.followed = answer;
        this.drawRein(kit.triedRein ?? this.rein);
      } catch (error) {
        if (api.overtaken(error)) return; // a newer question has overtaken this one
        if (!(error instanceof api.ApiError)) throw error;
        state.keeping.complain(error.message);
      }
    }, ASK_MS);
  },

  /** What reins make of settings now, as ghosts of their beads. */
  drawMoved(moved) {
    for (const [what, value] of Object.entries(moved ?? {})) {
      const [id, ...path] = what.split(".");
      if (id === "strip") kit.list.ghost(state.desk.stripId, path.join("."), value);
      else if (id === state.desk.processorId) kit.bench.controls.get(path.join("."))?.ghostAt?.(value);
    }
  },
});
