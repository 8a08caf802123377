// @ts-check
// Files in and out: bringing in takes, exporting a strip, the mix, stems or the session, with progress and a way to stop.

import * as api from "../api.js";
import { follow } from "../jobs.js";

const UNTOUCHED_BPM = 120; // a session that nobody has given a tempo
const NEAR_BPM = 0.25;

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const files = (kit, state) => ({
  /** @type {any[]} */
  jobs: [],
  exportWhat: "strip",
  format: "wav",
  bits: "24",
  rate: "",
  dither: "",
  exportPart: "",
  names: "",
  target: "−16",
  /** @type {{fader_db: number, said: string} | null} */
  measured: null,
  /** @type {string[]} tracks that were brought in here; only of these it is asked whether they belong together */
  broughtIn: [],
  /** @type {string[]} pairs that shall stay two, as one word */
  left: [],

  bringIn(list) {
    const coming = [...list].map((file) => this.send(file, (percent) => api.bringIn(state.desk.session.id, file, percent)).then((job) => this.cameIn(job)));
    // What has come in is shown first: a desk that still looks empty asks for no tempo.
    return Promise.all(coming).then(() => state.keeping.refresh()).then(() => this.askTempo());
  },
  /** What tempo the takes have: {bpm} where it is sure, as long as nobody has set one. @type {number | null} */
  foundBpm: null,
  get untouched() { return state.desk.document.tempo_bpm === UNTOUCHED_BPM && localStorage.getItem(`tempo-left ${state.desk.session.id}`) === null; },
  get offersTempo() { return this.foundBpm !== null && this.untouched && Math.abs(this.foundBpm - UNTOUCHED_BPM) > NEAR_BPM; },
  get tempoWord() { return this.foundBpm === null ? "" : `${this.foundBpm.toFixed(1)} found`; },
  async askTempo() {
    if (!this.untouched || state.desk.empty) return;
    const answer = await state.keeping.tried(() => api.tempo(state.desk.session.id));
    this.foundBpm = answer?.sure ? answer.found_bpm : null;
  },
  takeTempo() { return state.editing.change({ kind: "set_session", tempo_bpm: Math.round((this.foundBpm ?? UNTOUCHED_BPM) * 10) / 10 }); },
  leaveTempo() {
    localStorage.setItem(`tempo-left ${state.desk.session.id}`, "1");
    this.foundBpm = null;
  },
  /** Follow a file on its way in; @param {(percent: (done: number) => void) => Promise<any>} sending */
  send(file, sending) {
    return this.follow({ what: `Bringing in ${file.name}`, percent: 0 }, (shown) => sending((percent) => { shown.percent = percent; }));
  },
  cameIn(job) {
    if (job?.state !== "done") return;
    this.broughtIn = [...this.broughtIn, job.result.track_id];
    if (job.result.said) state.keeping.tell(job.result.said);
  },
  /** Another recording in the place of the chosen track's. @param {HTMLInputElement} field */
  replaceTake(field) {
    const [file] = field.files ?? [];
    if (!file) return;
    const { session, stripId } = state.desk;
    this.send(file, (percent) => api.replaceTake(session.id, stripId, file, percent)).then((job) => this.cameIn(job));
  },

  /** Mono tracks just brought in that are one stereo sound by their names. */
  get pairs() { return state.desk.session.pairs.filter((pair) => (this.broughtIn.includes(pair[0]) || this.broughtIn.includes(pair[1])) && !this.left.includes(pair.join())); },
  pairSaid([left, right]) {
    const { tracks } = state.desk.document;
    return `${tracks[left]?.name} and ${tracks[right]?.name}: one stereo track?`;
  },
  leavePair(pair) { this.left = [...this.left, pair.join()]; },
  joinPair([left, right, name]) {
    this.follow({ what: `Joining ${name}`, percent: 0 }, () => api.joinPair(state.desk.session.id, { left_id: left, right_id: right, name }));
  },

  get exportParts() {
    const { loop } = state.desk.document;
    const loops = loop.end_frame > loop.start_frame ? [["loop", "the loop"]] : [];
    return [["", "all of it"], ...loops, ...state.places.list.map((place) => [place.id, `from “${place.name}” to the next mark`])];
  },
  get span() {
    const { loop } = state.desk.document;
    const place = state.places.list.find(({ id }) => id === this.exportPart);
    if (place) return { from_frame: place.at_frame, to_frame: place.end_frame };
    return this.exportPart === "loop" ? { from_frame: loop.start_frame, to_frame: loop.end_frame } : {};
  },
  /** How loud the mix is, and what its fader would have to do. */
  async measureMix() {
    this.measured = null;
    const target = Number(this.target.replace("−", "-").replace(/\s*LUFS/i, "").replace(",", "."));
    if (!(target >= -40 && target <= -5)) return state.keeping.complain(`Loudness wanted is “${this.target}”; allowed: −40 to −5 LUFS.`);
    const job = await this.follow({ what: "Measuring the mix", percent: 0 }, () => api.measureMix(state.desk.session.id, { target_lufs: target, ...this.span }));
    if (job?.state === "done") this.measured = job.result;
  },
  async setFader() {
    if (!this.measured) return;
    await state.editing.change({ kind: "set_strip", strip_id: "master", values: { fader_db: this.measured.fader_db } });
    this.measured = null;
  },
  /** A response for the chosen processor. */
  bringInImpulse(file) {
    const { session, stripId, processorId } = state.desk;
    this.send(file, (percent) => api.bringInImpulse(session.id, stripId, processorId, file, percent));
  },
  get exportChoices() {
    const whole = [["mix", "The mix"], ["stems", "All stems"], ["session", "The session"]];
    return state.desk.strip && state.desk.stripId !== "master" ? [["strip", state.desk.strip.name], ...whole] : whole;
  },
  get exportNote() {
    const soloed = [...Object.values(state.desk.document.tracks), ...Object.values(state.desk.document.buses)].some((strip) => strip.solo);
    const heard = soloed ? " Something is soloed: only that is in it, as you hear it." : "";
    return {
      strip: "From the session's first frame to the end, through its chain; fader and pan stay out of it. These are the samples you hear.",
      mix: `The whole session as you hear it, through the master.${heard}`,
      stems: `One file for each track and bus that goes to the master, all equally long. They leave out the master's chain: while that is off, they add up to the mix.${heard}`,
      session: "Everything in one open file: the takes as FLAC, all settings as text. It opens on another machine with the same sound. Undone steps stay here.",
    }[this.exportWhat];
  },
  get ditherNote() {
    if (this.dither === "none") return "Rounded without dither: very quiet passages distort.";
    if (this.dither === "tpdf") return "A little noise, the same every time, keeps quiet passages clean.";
    return this.bits === "16"
      ? "16 bits are dithered, unless every sample already is one of 16 bits."
      : "24 bits are rounded; what that adds lies far below any noise.";
  },
  showExport() {
    this.measured = null;
    if (!this.exportParts.some(([value]) => value === this.exportPart)) this.exportPart = "";
    if (!this.exportChoices.some(([what]) => what === this.exportWhat)) this.exportWhat = "mix";
    kit.parts.exporting.showModal();
  },
  async exportNow() {
    kit.parts.exporting.close();
    const { exportWhat: what, format, bits } = this;
    const body = { ...this.span, names: this.names.trim(), format, bits, rate: this.rate ? Number(this.rate) : null, dither: bits === "32f" ? null : this.dither || null };
    const id = state.desk.session.id;
    const begin = {
      strip: () => api.exportStrip(id, state.desk.stripId, body),
      mix: () => api.exportMix(id, { ...body, stems: false }),
      stems: () => api.exportMix(id, { ...body, stems: true }),
      session: () => api.exportSession(id),
    }[what];
    const job = await this.follow({ what: "Exporting", percent: 0 }, begin);
    if (job?.state !== "done") return;
    kit.parts.download.href = api.jobFile(job.id);
    kit.parts.download.click();
    const { clipped_frames: clipped, rounded_takes: rounded, passed_by: passed } = job.result;
    for (const sentence of passed ?? []) state.keeping.complain(sentence);
    if (clipped) state.keeping.complain(`${job.result.name}: ${clipped} frames were louder than full scale and clipped. Turn the master down, or export 32 float.`);
    if (rounded) state.keeping.complain(`${job.result.name}: ${rounded} takes from an older version were rounded to 24 bits.`);
  },
  /** The chosen processor's gain over time, as CSV. */
  async traceGain() {
    const { session, stripId, processorId } = state.desk;
    const job = await this.follow({ what: "Writing its gain", percent: 0 }, () => api.traceGain(session.id, stripId, processorId));
    if (job?.state !== "done") return;
    kit.parts.download.href = api.jobFile(job.id);
    kit.parts.download.click();
  },
  async follow(shown, begin) {
    this.jobs.push(shown);
    const row = this.jobs[this.jobs.length - 1];
    const job = await state.keeping.tried(async () => follow(await begin(row), row));
    this.jobs.splice(this.jobs.indexOf(row), 1);
    if (job?.state === "failed") state.keeping.complain(job.message);
    return job;
  },
  stopJob(row) { api.cancelJob(row.id); },
});
