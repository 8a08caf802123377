// @ts-check
// The desk: holds what is shown, passes what the hand does to the server and what comes back to the pictures.

import * as api from "./api.js";
import { Bench } from "./bench.js";
import { NumberControl } from "./control.js";
import { holdKeys, keyHandler, placeKeys, SHORTCUTS } from "./keys.js";
import { Live } from "./live.js";
import { Overview } from "./overview.js";
import { keepDrawing } from "./pace.js";
import { Previewer } from "./previewer.js";
import { putText } from "./put.js";
import { rememberedRoom } from "./state/room.js";
import { beginStates, withStates } from "./state/states.js";
import { MasterReading } from "./reading.js";
import { say, takeWords } from "./saying.js";
import { meterStation } from "./stations.js";
import { StripList } from "./strips.js";
import { TakeView } from "./takeview.js";
import { bars, clock } from "./times.js";

const NOTHING = { said: "", cure: "", settings: {}, lay: false }; // is too much
const PARTS = [
  "take", "overview", "bench", "tracks", "buses", "mainstrip", "reading", "reins", "chain", "position", "clock", "tempo", "name", "sessionname",
  "exporting", "download", "history", "bus", "points", "help", "removing", "spectrum", "bandtable", "work", "divider",
  "reinbench", "moving", "reinlist", "drafts", "pictures", "smallpictures", "largepictures", "why", "tiles",
  "find", "above", "booksheet", "sets", "wholechain", "placelist", "earcontrols", "jump",
];

/** Whether a track with a take leads to a bus or the master, by the way it goes or by a send. */
function soundComesTo(document, id) {
  const goes = (strip) => (strip.bus || "master") === id || strip.sends.some(({ bus }) => bus === id);
  return Object.values(document.tracks).some((track) => track.take_id !== null && goes(track))
    || Object.entries(document.buses).some(([other, bus]) => goes(bus) && soundComesTo(document, other));
}

/** @typedef {ReturnType<typeof shown>} Desk */

/** @param {any} data what the page was given: session, processors, settings of strips and session, frequencies, reins, sound */
export const desk = (data) => () => {
  // Kept out of Alpine's reach: these change sixty times a second.
  const kit = { parts: {}, attempted: {}, changes: 0, underway: 0, told: null };
  return withStates(kit, data, shown);
};

/**
 * What is the desk's own: the session, what is chosen of it, and the parts of the page.
 * @param {import("./state/states.js").Kit} kit
 * @param {import("./state/states.js").States} state
 * @param {any} data
 */
const shown = (kit, state, data) => ({
  session: data.session,
  processors: data.processors,
  pairs: data.pairs,
  shortcuts: SHORTCUTS,
  stripId: data.session.document.order[0] ?? "master",
  /** @type {string | null} */
  processorId: null,
  playing: false,
  told: "",
  /** What the sound goes on without until it is compiled: by processor why. @type {Record<string, string>} */
  awaited: {},
  problem: "",
  offer: "",
  /** What the chosen processor overdoes on this take, and what one press does about it. @type {{said: string, cure: string, settings: Record<string, any>, lay: boolean}} */
  much: NOTHING,
  lost: false,
  drawing: false,

  get document() { return this.session.document; },
  get strip() { return this.document.tracks[this.stripId] ?? this.document.buses[this.stripId] ?? (this.stripId === "master" ? this.document.master : null); },
  get isTrack() { return this.stripId in this.document.tracks; },
  get isBus() { return this.stripId in this.document.buses; },
  /** Whether there is sound to look at: a take, or of a bus and the master, one that leads there. */
  get hasTake() { return this.isTrack ? this.strip.take_id !== null : soundComesTo(this.document, this.stripId); },
  get chain() { return this.strip?.chain ?? []; },
  get processor() { return this.chain.find((entry) => entry.id === this.processorId) ?? null; },
  get working() { return Boolean(this.processor) && !this.empty; },
  get canUndo() { return this.session.undo !== null; },
  get canRedo() { return this.session.redo !== null; },
  get undoTitle() { return this.canUndo ? `Undo: ${this.session.undo}` : "Nothing to undo"; },
  get redoTitle() { return this.canRedo ? `Redo: ${this.session.redo}` : "Nothing to redo"; },
  get empty() { return this.document.order.length === 0; },
  get keptText() { return this.lost ? "connection lost" : `Kept · step ${this.session.step}`; },
  get workLooks() { return { ...this.room.roomy, ...this.aiming.looks, ...(this.spreading.proposes ? { "is-proposing": true } : {}) }; },
  get takeNote() {
    if (this.aiming.looks["is-proposing"] || this.spreading.proposes) return "as proposed; not kept";
    if (!this.hasTake && !this.isTrack) return "nothing comes here yet: no track with a take leads to it";
    if (!this.isTrack) return this.isBus ? "all that goes into this bus" : "the whole mix";
    const take = this.session.takes[this.strip.take_id];
    return take ? `${take.channels === 1 ? "mono" : "stereo"} · ${clock(take.frames / this.document.sample_rate)}` : "no take";
  },
  /** What is known of the chosen processor's type. */
  get kind() { return this.processor ? this.kindOf(this.processor) : undefined; },
  kindOf(entry) { return this.processors.find(({ type }) => type === entry.type); },
  get isTied() { return (this.processor?.settings.key?.source ?? "self") !== "self"; },
  /** Whether a processor has a view. */
  shows(entry, view) { return this.kindOf(entry).views.includes(view); },
  /** The setting whose line lies on the take; one that drives towards a level that stands is called by that. */
  get lineSetting() {
    const setting = this.kind?.settings.find((s) => s.name === this.kind.line);
    return setting && this.kind.line_drives ? { ...setting, label: "Threshold" } : setting;
  },
  get recallSheet() { return `/sessions/${this.session.id}/recall`; },
  get guide() { return this.kind ? `/guide/${this.kind.type}` : "#"; },
  labelOf(entry) { return this.processors.find((p) => p.type === entry.type).label; },
  isSelected(entry) { return entry.id === this.processorId; },

  init() {
    beginStates(state, this);
    state.desk.$nextTick(() => this.begin());
  },

  /** Once the page's parts are there. */
  begin() {
    for (const name of PARTS) kit.parts[name] = state.desk.$refs[name];
    this.connect();
    const tempo = () => this.document.tempo_bpm;
    kit.overview = new Overview(kit.parts.overview, (start, frames) => kit.view.look(start, frames));
    kit.view = new TakeView(kit.parts.take, {
      view: () => { kit.previews?.ask(); if (kit.reins) state.reins.askFollowed(); kit.overview.follow(kit.view.model); state.mapping.paint(); },
      seek: (frame) => { kit.live.seek(frame); this.drawNow(); },
      loop: (loop) => state.editing.change({ kind: "set_session", loop }),
      place: () => kit.live.position(),
      levels: rememberedRoom().levels,
      scale: (levels) => state.room.keepLevels(levels),
      placeLine: () => kit.lineHand?.place(),
      loopPlace: (id) => state.places.loop(id),
      movePlace: (id, frame) => state.places.move(id, frame),
      removePlace: (id) => state.places.remove(id),
      listPlaces: () => state.places.show(),
      why: (frame) => state.asking.why(frame),
      takeMark: (at) => state.aiming.takeMark(at),
      addMark: (at) => state.aiming.addMark(at),
      threshold: (db) => state.trying.attemptThreshold(db),
      keepThreshold: () => kit.bench.controls.get(this.kind.line).settle(),
      nudge: (direction, fine) => kit.bench.controls.get(this.kind.line).nudge(direction, fine),
    });
    kit.bench = new Bench(kit.parts.bench, {
      attempt: (name, value) => state.trying.attempt(name, value),
      keep: (name, value) => state.trying.keepSetting(name, value),
      match: () => state.hearing.matchMakeup(),
      follow: () => state.hearing.toggleFollowing(),
      sources: () => state.editing.keySources(),
      recordings: () => Object.entries(this.document.impulses),
      bringInRecording: (file) => state.files.bringInImpulse(file),
      removeRecording: (id) => state.editing.change({ kind: "remove_impulse", take_id: id, strip_id: this.stripId, processor_id: this.processorId }),
      keyCurves: data.reins.keyCurves,
      threshold: () => state.trying.thresholdDb(),
      useKeyCurve: (curve, names) => state.editing.useKeyCurve(curve, names),
      latchKey: () => state.hearing.hear(state.hearing.listen === "key" ? "result" : "key"),
      keyInHand: (inHand) => state.hearing.keyInHand(inHand),
      rein: (name) => state.reins.reinFor(`${this.processorId}.${name}`),
      tempo,
    });
    kit.times = data.sessionSettings.map((setting) => {
      const keep = (value) => state.editing.change({ kind: "set_session", [setting.name]: value });
      const control = new NumberControl(setting, { attempt: () => {}, keep, tempo, byFigure: true });
      kit.parts.tempo.append(control.root);
      return [setting.name, control];
    });
    kit.list = new StripList({ ...data.stripSettings, deeper: data.deeper }, {
      move: (trackId, index) => state.editing.change({ kind: "move_track", track_id: trackId, index }),
      attempt: (stripId, values) => state.together.attempt(stripId, values),
      keep: (stripId, values) => state.together.keep(stripId, values),
      attemptDeeper: (stripId, by) => state.together.attemptDeeper(stripId, by),
      keepDeeper: (stripId, by) => state.together.keepDeeper(stripId, by),
      choose: (stripId, all) => state.together.choose(stripId, all),
      attemptSend: (stripId, bus, values) => kit.live.send({ type: "try_send", strip_id: stripId, bus, ...values }),
      keepSend: (stripId, bus, values) => state.editing.change({ kind: "put_send", strip_id: stripId, bus, ...values }),
      removeSend: (stripId, bus) => state.editing.change({ kind: "remove_send", strip_id: stripId, bus }),
      route: (stripId, bus) => state.editing.change({ kind: "route_strip", strip_id: stripId, bus }),
      select: (stripId) => this.select(stripId),
      tie: (from, to) => state.editing.tie(from, to),
      rein: (stripId, name) => { if (stripId !== this.stripId) this.select(stripId); state.reins.reinFor(`strip.${name}`); },
      tempo,
    });
    document.addEventListener("reins-waits", (event) => {
      const { sentence, path } = /** @type {CustomEvent} */ (event).detail;
      state.keeping.tell(sentence);
      if (path.endsWith("/preview")) document.body.dataset.waits = "picture"; // figures are still those of what was shown before
    });
    kit.reading = new MasterReading(kit.parts.reading);
    kit.previews = new Previewer(this.session.id, () => state.trying.wish(), (answer) => this.draw(answer), (busy) => { this.drawing = busy; });
    state.hearing.beginMore();
    state.reins.beginReins();
    state.frequencies.beginFrequencies();
    state.mapping.beginMap();
    state.room.beginRoom();
    window.addEventListener("keydown", placeKeys(this), true);
    window.addEventListener("keydown", keyHandler(this));
    holdKeys(this);
    window.addEventListener("themechange", () => {
      state.above.paintAll();
      kit.mapper.forget();
      for (const part of [kit.view, kit.bench, kit.overview, kit.spectrum, kit.reins]) part.paint();
      state.spreading.paintAll();
      kit.table.draw();
      state.mapping.paint();
    });
    Object.assign(window, { reins: { live: kit.live, previews: kit.previews, spectrum: kit.spectrum, view: kit.view, mapper: kit.mapper } }); // read by the browser tests and the benchmarks
    this.select(this.stripId);
    if (location.hash) state.transport.goThere(location.hash);
    state.files.askTempo();
    window.addEventListener("hashchange", () => state.transport.goThere(location.hash));
    keepDrawing((figures) => this.drawNow(figures), kit.live);
  },

  connect() {
    const live = kit.live = new Live(this.session.id, this.document.sample_rate, data.sound);
    live.addEventListener("state", () => {
      this.playing = live.playing;
      if (!this.playing) kit.spectrum?.draw({ curve: null });
      kit.wholeAsked = null; // what sounded last gives way to the whole take
      state.frequencies.showSpectra();
    });
    live.addEventListener("kept", (event) => state.keeping.follow(/** @type {CustomEvent} */ (event).detail));
    live.addEventListener("problem", (event) => state.keeping.complain(/** @type {CustomEvent} */ (event).detail));
    live.addEventListener("awaited", (event) => { this.awaited = /** @type {CustomEvent} */ (event).detail; });
    live.addEventListener("lost", () => { this.lost = true; });
    live.addEventListener("back", () => {
      this.lost = false;
      kit.told = null;
      state.hearing.tellListening();
      state.otherwise.tell(true);
      state.blinding.breakOff();
      state.keeping.refresh();
    });
  },

  changeTheme() { /** @type {any} */ (window).changeTheme(); }, // of a script that runs before this one

  select(stripId) {
    const other = stripId !== this.stripId;
    this.stripId = stripId;
    if (other) state.frequencies.changeBench();
    if (other) state.reins.reinId = null;
    if (other || !this.processor) this.processorId = this.chain[0]?.id ?? null;
    const empty = kit.view.model.end <= 1;
    kit.view.show({ end: this.session.frames || 1, ...(other ? { picture: null, rough: null } : {}) });
    if (empty && this.session.frames) kit.view.look(0, this.session.frames); // the first take is seen whole
    if (other) {
      kit.overview.show(null);
      kit.levels = null;
    }
    this.showAll();
    if (!other || kit.view.model.frames <= 1) kit.view.look(0, this.session.frames || 1);
    if (other && state.hearing.reaches !== "mix") {
      state.hearing.gains = null;
      state.hearing.askMatching();
    }
  },

  /** Ask for what stays the same while settings move: how long at each level, and the overview. */
  async askLevels() {
    const wanted = `${this.stripId} ${this.isTrack ? this.strip.take_id : this.session.step}`;
    if (wanted === kit.levels || this.empty || !this.hasTake) return;
    kit.levels = wanted;
    const levels = await state.keeping.tried(() => api.levels(this.session.id, this.stripId));
    if (!levels || wanted !== kit.levels) return;
    kit.bench.levels = levels;
    kit.bench.paint();
    kit.overview.show(levels);
    kit.view.show({ rough: levels });
  },

  selectProcessor(id) {
    if (id !== this.processorId) state.frequencies.changeBench();
    this.processorId = id;
    state.reins.reinId = null;
    this.showAll();
  },

  /** A click anywhere on a station but on its buttons, which do their own. */
  selectStation(event, entry) { if (!event.target.closest("button")) this.selectProcessor(entry.id); },

  showAll() {
    kit.attempted = {};
    if (!this.processor && this.processorId !== (this.chain[0]?.id ?? null)) {
      this.processorId = this.chain[0]?.id ?? null;
      state.frequencies.changeBench();
    }
    const { sample_rate: sampleRate, tempo_bpm: tempoBpm, beats_per_bar: beatsPerBar, loop } = this.document;
    kit.view.show({ end: this.session.frames || 1, sampleRate, tempoBpm, beatsPerBar, loop: { ...loop }, places: this.document.places, thresholdDb: state.trying.thresholdDb(), closingDb: state.trying.closingDb(), line: this.lineSetting });
    kit.overview.follow(kit.view.model);
    kit.live.loop = loop;
    for (const [name, control] of kit.times) control.set(this.document[name]);
    kit.pause.set(loop.pause_s);
    kit.list.show({ track: kit.parts.tracks, bus: kit.parts.buses, master: kit.parts.mainstrip, reins: kit.parts.reins }, this.document, this.stripId);
    if (this.processor) {
      kit.bench.build(this.kind);
      kit.bench.set(this.processor.settings);
      kit.bench.showFollowing(state.hearing.following);
    }
    state.reins.showRein();
    state.room.placePictures();
    this.$nextTick(() => kit.keepTools());
    state.frequencies.watchNow();
    state.hearing.tellListening();
    state.frequencies.showFrequencies();
    kit.previews.ask();
    this.askLevels();
  },

  draw(answer) {
    if (answer.strip !== this.stripId) return;
    delete document.body.dataset.waits;
    kit.lineAt = answer.line;
    if (answer.excerpt) { // figures at once; the picture follows
      kit.bench.show(answer);
      return;
    }
    kit.view.show({ picture: answer, thresholdDb: state.trying.thresholdDb() });
    kit.bench.show(answer);
    if (answer.whole) {
      this.much = answer.too_much ?? NOTHING;
      kit.takeWords = takeWords(this.strip.name, answer);
      say(kit.view.canvas, kit.takeWords);
    }
    this.offer = this.much.settings.hold_ms ? "" : answer.offer ?? ""; // what chatters holds too shortly: that is its cure
    state.hearing.follow(answer);
    state.frequencies.drawFrequencies(answer);
  },

  /** The playhead moves with every picture; figures and meters, costlier to lay out, less often. */
  drawNow(figures = true) {
    const { live, parts } = kit;
    const frame = live.position();
    if (this.playing && !state.room.frozen) kit.view.follow(frame);
    kit.view.playhead(frame);
    state.above.playhead(frame);
    if (!state.room.frozen) state.frequencies.drawSpectra(live.meters);
    if (!figures) return;
    putText(parts.position, bars(frame, this.document));
    putText(parts.clock, clock(frame / this.document.sample_rate));
    if (state.room.frozen) return;
    kit.list.meter(live.meters, this.stripId);
    kit.reading.show(live.meters?.master ?? live.last);
    state.reins.drawMoved(live.meters?.moved);
    kit.bench.point(live.meters?.points[this.processorId ?? ""] ?? null, live.meters?.in_charge ?? 0);
    for (const station of parts.chain.querySelectorAll("[data-processor]")) meterStation(station, live.meters);
  },
});
