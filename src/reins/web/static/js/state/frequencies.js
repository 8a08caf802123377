// @ts-check
// What is seen and done by frequency: the spectrum on the bench, the bands below it.

import * as api from "../api.js";
import { BandTable } from "../bands.js";
import { valueAtPath } from "../paths.js";
import { say, spectrumWords } from "../saying.js";
import { shapesOf } from "../shapes.js";
import { Spectrum } from "../spectrum.js";

/** A value moved as another of its kind was, within limits; of what is no number, the same. */
function movedAlike(value, from, to, { kind, scale, low, high }) {
  if (kind !== "number") return to;
  const moved = scale === "log" && from > 0 && to > 0 ? (value * to) / from : value + to - from;
  return Math.min(high, Math.max(low, Number(moved.toPrecision(5))));
}

const SEEN = ["source", "result", "key"];

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data of the page
 */
export const frequencies = (kit, state, data) => ({
  seen: { source: true, result: true, key: false },
  whole: false,
  beside: "",
  reading: "",
  pictures: {},
  bandsTab: "bands",
  finding: false,
  /** @type {string | null} the name of its gain; of several, joined by + */
  heardBand: null,
  keyBand: "",

  /** Whether the chosen processor has bands in a table. */
  get banded() { return state.desk.working && state.desk.kind.views.includes("bands"); },
  get byFrequency() { return state.desk.working && state.desk.kind.views.includes("spectrum"); },
  /** The picture shown beside the controls: the one chosen for this type, else its first. */
  /** Whether there is an in-out picture to choose, and one of a burst. */
  get hasCurve() { return state.desk.working && state.desk.kind.views.includes("in_out"); },
  get hasHarmonics() { return state.desk.working && state.desk.kind.views.includes("harmonics"); },
  get hasBurst() { return state.desk.working && state.desk.kind.views.includes("burst"); },
  get picture() { return this.pictures[state.desk.kind?.type] ?? state.desk.kind?.views[0]; },
  get showsSpectrum() { return !this.hasCurve || this.banded || this.picture === "spectrum"; },
  get showsBurst() { return !this.showsSpectrum && this.hasBurst && this.picture === "burst"; },
  get showsCurve() { return !this.showsSpectrum && !this.showsBurst; },
  get benchClass() { return { "is-banded": this.banded, "is-all": this.banded && !this.showsTable, "is-lean": this.leans, "is-spectral": state.desk.working && !this.banded && this.showsSpectrum, "is-bare": !state.desk.working }; },
  get hearsBand() { return state.desk.working && state.desk.kind.covers === "span"; },
  get showsTable() { return this.banded && (this.bandsTab === "bands" || this.showsKeys || (this.bandsTab === "lean" && !this.canLean)); },
  /** Whether there is a line to lean over the bands, and whether it is what is worked on. */
  get canLean() { return this.banded && Boolean(this.field("lean_lows_db")); },
  get leans() { return this.canLean && this.bandsTab === "lean"; },
  /** Whether the table is that of what bands with keys of their own listen to. */
  get showsKeys() { return this.hasKeys && this.bandsTab === "keys"; },
  get hasKeys() { return this.banded && Boolean(this.field("bands").keys); },
  get ready() { return state.desk.kind?.ready ?? []; },
  get besides() {
    const strips = [...state.desk.document.order, ...state.desk.document.bus_order].filter((id) => id !== state.desk.stripId);
    return strips.map((id) => [id, (state.desk.document.tracks[id] ?? state.desk.document.buses[id]).name]);
  },
  field(name) { return state.desk.kind.settings.find((setting) => setting.name === name); },
  get roomForBands() { return this.banded && state.desk.processor.settings.bands.length < this.field("bands").most; },
  /** Whether bands stand by themselves, not between crossovers. */
  get free() { return this.banded && !this.field("bands").between; },
  get canAddBand() { return this.free && this.roomForBands; },
  get canSplit() { return this.banded && !this.free && this.roomForBands; },
  get canJoin() { return this.banded && !this.free && state.desk.processor.settings.bands.length > 2; },
  get topology() { return state.desk.processor?.settings.topology; },

  beginFrequencies() {
    kit.spectrum = new Spectrum(kit.parts.spectrum, data.frequencies, {
      attempt: (values) => state.trying.attemptMany(this.withChosen(values)),
      keep: (values) => state.trying.keepMany(this.withChosen(values)),
      add: (hz, gain) => this.addBand(hz, gain),
      select: (chosen) => this.chooseBands(chosen),
      hear: (gain) => this.hearBand(gain),
      read: (text) => { this.reading = text; },
    });
    kit.table = new BandTable(kit.parts.bandtable, {
      attempt: (name, value) => state.trying.attemptMany(this.withChosen({ [name]: value })),
      keep: (name, value) => state.trying.keepMany(this.withChosen({ [name]: value })),
      select: (chosen) => this.chooseBands(chosen),
      hear: (gain) => this.hearBand(this.heardBand?.split("+").includes(gain) ? null : this.alongWith(gain)),
      remove: (index) => state.trying.keepSetting("bands", state.desk.processor.settings.bands.filter((_, k) => k !== index)),
      sources: () => state.editing.keySources(),
      tempo: () => state.desk.document.tempo_bpm,
    });
    kit.chosen = [];
    kit.spectra = {};
  },


  showFrequencies() {
    this.placePictures();
    const settings = state.trying.settingsNow();
    kit.spectrum.lean(this.leans);
    kit.spectrum.show(this.byFrequency ? state.desk.kind : null, this.byFrequency ? settings : null);
    if (this.heardBand?.split("+").some((one) => !this.regions.some(({ gain }) => gain === one))) this.hearBand(null); // one is gone
    this.showTable();
    this.chooseKeyBand();
    state.mapping.paint();
    this.showSpectra();
  },
  showTable() {
    if (this.banded) kit.table.show(state.desk.kind, state.trying.settingsNow(), kit.chosen, this.heardBand, this.showsKeys);
  },
  showTab(tab) {
    this.bandsTab = tab;
    kit.spectrum.lean(this.leans);
    this.showTable();
    state.desk.$nextTick(() => kit.table.draw());
  },
  /** Whose key is heard and seen, where bands have keys of their own: the chosen one's, else the first's. */
  chooseKeyBand() {
    const band = state.desk.working && !state.desk.processor.settings.key ? this.regions[kit.chosen[0] ?? 0]?.gain ?? "" : "";
    if (band === this.keyBand) return;
    this.keyBand = band;
    state.hearing.tellListening();
    this.watchNow();
  },
  /** What the chosen processor covers, band by band. */
  get regions() { return state.desk.working && this.byFrequency ? shapesOf(state.desk.kind.covers).regions(state.trying.settingsNow()) : []; },
  /** What the source of the chosen strip is made of: changes whenever that does. */
  get sourceKey() { return state.desk.isTrack ? [state.desk.strip.take_id, state.desk.strip.start_frame, state.desk.strip.trim_db, state.desk.strip.inverted] : state.desk.session.step; },
  /** Another strip or processor is on the bench. */
  changeBench() {
    state.aiming.changeBench();
    state.spreading.changeBench();
    state.otherwise.changeBench();
    state.asking.close();
    state.asking.close();
    kit.chosen = [];
    kit.spectrum.chosen = [];
    kit.spectra = {};
    if (this.heardBand) this.hearBand(null);
    kit.spectrum.draw({ frequency: null, tone: null, curve: null, shown: {}, heard: null, heardNow: null });
  },
  drawFrequencies(answer) {
    kit.spectrum.draw({ frequency: answer.frequency ?? null, tone: answer.harmonics ?? null, bands: answer.bands ?? null, ...(answer.whole ? { heard: answer.heard ?? null } : {}) });
    kit.table.draw(answer.bands ?? null);
    state.mapping.paint();
  },

  watchNow() {
    kit.live.watch({ strip_id: state.desk.stripId, processor_id: state.desk.processorId ?? "", spectra: this.showsSpectrum, beside: this.beside, band: this.keyBand });
  },
  toggleSeen(what) {
    this.seen = { ...this.seen, [what]: !this.seen[what] };
    this.showSpectra();
  },
  toggleWhole() {
    this.whole = !this.whole;
    kit.spectrum.draw({ shown: {} });
    this.showSpectra();
  },
  layOver(list) {
    this.beside = list.value;
    list.blur();
    this.watchNow();
    this.showSpectra();
  },
  showPicture(picture) {
    this.pictures = { ...this.pictures, [state.desk.processor.type]: picture };
    this.watchNow();
    state.desk.$nextTick(() => { kit.bench.paint(); this.showFrequencies(); });
  },
  /** Burst and harmonics stand small under the controls, or large in the picture's place. */
  placePictures() {
    const { largepictures, smallpictures, pictures } = kit.parts;
    (this.showsBurst ? largepictures : smallpictures).append(pictures);
  },

  /** Spectra of now come with the meters; standing still, or when asked, those of the whole take are shown. */
  showSpectra() {
    if (!this.showsSpectrum || state.desk.empty || !state.desk.hasTake) return;
    if (state.desk.playing && !this.whole) return;
    this.askWhole();
  },
  async askWhole() {
    // A key is heard of one processor: where none is chosen there is none to ask for.
    const wanted = [...SEEN.filter((what) => this.seen[what] && (what !== "key" || state.desk.processorId)), ...(this.beside ? ["beside"] : [])];
    /** @type {Record<string, number[]>} */
    const shown = {};
    const { stripId, processorId, session: { id, step } } = state.desk; // another may be chosen while answers come
    const { beside: other, keyBand } = this;
    const settingsKey = JSON.stringify([step, stripId, processorId, other, keyBand, wanted]);
    if (kit.wholeAsked === settingsKey && Object.keys(kit.spectrum.model.shown).length) return;
    kit.wholeAsked = settingsKey;
    kit.wholeStop?.abort();
    const { signal } = kit.wholeStop = new AbortController();
    kit.wholeNumber = (kit.wholeNumber ?? 0) + 1;
    for (const what of wanted) {
      const beside = what === "beside";
      const strip = beside ? other : stripId;
      const band = what === "key" ? keyBand : "";
      const key = `${step} ${strip} ${beside ? "result" : what} ${beside ? "" : processorId} ${band}`;
      try {
        kit.spectra[key] ??= (await api.spectrum(id, strip, { desk: kit.previews.desk, number: kit.wholeNumber, what: beside ? "result" : what, processor_id: beside ? null : processorId, band }, signal)).db;
      } catch (error) {
        if (api.overtaken(error)) return;
        if (!(error instanceof api.ApiError)) throw error;
        continue; // a strip without sound has no spectrum
      }
      if (kit.wholeAsked !== settingsKey) return;
      shown[what] = kit.spectra[key];
      if (!state.desk.playing || this.whole) kit.spectrum.draw({ shown: { ...shown } });
      say(kit.spectrum.canvas, spectrumWords(data.frequencies.hz, shown));
    }
  },
  /** With every picture while it plays. */
  drawSpectra(meters) {
    if (!this.showsSpectrum || !meters?.spectra || meters === kit.drawnMeters) return;
    kit.drawnMeters = meters;
    const shown = {};
    for (const what of [...SEEN.filter((name) => this.seen[name]), "beside"]) if (meters.spectra[what]) shown[what] = meters.spectra[what];
    if (!Object.keys(meters.spectra).length) return; // blocks come oftener than spectra
    kit.spectrum.draw({ ...(this.whole ? {} : { shown }), curve: meters.curve, heardNow: meters.heard });
  },

  chooseBands(chosen) {
    if (String(chosen) === String(kit.chosen)) return;
    kit.chosen = chosen;
    kit.spectrum.choose(chosen);
    this.showTable();
    this.chooseKeyBand();
    this.showSpectra();
  },
  /** A band at a place of the spectrum or the map; a de-esser's band is moved there. */
  addBand(hz, gain = 0) {
    const kept = ({ low, high }, value) => Math.min(high, Math.max(low, value));
    if (this.canAddBand) {
      const [frequency, level] = ["freq_hz", "gain_db"].map((name) => this.field("bands").fields.find((f) => f.name === name));
      const band = { freq_hz: Number(kept(frequency, hz).toPrecision(3)), gain_db: Math.round(kept(level, gain) * 2) / 2 };
      kit.chosen = [state.desk.processor.settings.bands.length];
      kit.spectrum.chosen = kit.chosen;
      return state.trying.keepSetting("bands", [...state.desk.processor.settings.bands, band]);
    }
    if (!state.desk.working || state.desk.kind.covers !== "span") return null;
    const { low_hz: low, high_hz: high } = state.desk.processor.settings;
    const half = Math.sqrt(high / low);
    return state.trying.keepMany({ low_hz: Math.round(kept(this.field("low_hz"), hz / half)), high_hz: Math.round(kept(this.field("high_hz"), hz * half)) });
  },
  /** All that a multiband needs found from the take: thresholds that hold each band alike; the line level again. */
  async findBands() {
    this.finding = true;
    const { session, stripId, processorId } = state.desk;
    kit.aimNumber = (kit.aimNumber ?? 0) + 1;
    const found = await state.keeping.tried(() => api.aim(session.id, stripId, { desk: kit.previews.desk, number: kit.aimNumber, aim: "bands", asked: 3, processor_id: processorId, first: false }));
    this.finding = false;
    if (found && processorId === state.desk.processorId) await state.trying.keepMany(found.settings);
  },
  get findText() { return this.finding ? "listening …" : "Found from the take"; },
  sortBands() {
    return state.trying.keepSetting("bands", state.desk.processor.settings.bands.toSorted((a, b) => a.freq_hz - b.freq_hz));
  },
  setTopology(topology) { return state.trying.keepSetting("topology", topology); },
  spanWords: (low, high) => `${low / 1000} to ${high / 1000} kHz`,
  useReady([low, high]) { return state.trying.keepMany({ low_hz: low, high_hz: high }); },
  /** Multiband: cut the widest band in two, or take the crossover above the chosen band away. */
  splitBand() {
    const { crossovers_hz: all, bands } = state.desk.processor.settings;
    const edges = [20, ...all, 20000];
    const widths = edges.slice(1).map((edge, index) => edge / edges[index]);
    const at = widths.indexOf(Math.max(...widths));
    const crossover = Math.round(Math.sqrt(edges[at] * edges[at + 1]));
    return state.trying.keepMany({ crossovers_hz: all.toSpliced(at, 0, crossover), bands: bands.toSpliced(at, 0, bands[at]) });
  },
  joinBands() {
    const { crossovers_hz: all, bands } = state.desk.processor.settings;
    const chosen = kit.chosen[0] ?? bands.length - 2; // its upper edge goes, of the last band its lower one, and what lay beyond
    const last = chosen === bands.length - 1;
    return state.trying.keepMany({ crossovers_hz: all.toSpliced(last ? chosen - 1 : chosen, 1), bands: bands.toSpliced(last ? chosen - 1 : chosen + 1, 1) });
  },
  /** The chosen band alone, else the first, or what the processor watches, while a key is down. */
  hearChosen(on) {
    const region = this.regions[kit.chosen[0] ?? 0];
    if (on ? region : this.heardBand) this.hearBand(on ? this.alongWith(region.gain) : null);
  },
  /** A band, and with it all that are chosen together with it. */
  alongWith(gain) {
    const chosen = kit.chosen.map((index) => this.regions[index]?.gain);
    return chosen.includes(gain) ? chosen.join("+") : gain;
  },
  /** Values of one chosen band, and of the others chosen with it: moved as far, on the setting's own scale. */
  withChosen(values) {
    const [[name, value], ...more] = Object.entries(values);
    const [, place, setting] = /^bands\.(\d+)\.(.+)$/.exec(name) ?? [];
    const index = Number(place);
    if (more.length || setting === undefined || kit.chosen.length < 2 || !kit.chosen.includes(index)) return values;
    const field = this.field("bands").fields.find((one) => one.name === setting);
    const { bands } = state.desk.processor.settings; // as they are kept: from there the hand has moved
    const own = valueAtPath(bands[index], setting);
    return Object.fromEntries(kit.chosen.map((other) => [`bands.${other}.${setting}`, other === index ? value : movedAlike(valueAtPath(bands[other], setting), own, value, field)]));
  },
  hearBand(gain) {
    this.heardBand = gain;
    state.hearing.tellListening();
    this.showTable();
  },
});
