// The desk: holds what is shown, passes what the hand does to the server and what comes back to the pictures.

import * as api from "./api.js";
import { Bench, overlaid } from "./bench.js";
import { NumberControl } from "./control.js";
import { follow } from "./jobs.js";
import { keyHandler, SHORTCUTS } from "./keys.js";
import { Live } from "./live.js";
import { Previewer } from "./previewer.js";
import { putStyle, putText } from "./put.js";
import { TakeView } from "./takeview.js";
import { bars, clock } from "./times.js";
import { TrackList } from "./tracks.js";

const FIGURES_MS = 45;
const PARTS = ["take", "bench", "tracks", "chain", "position", "clock", "tempo", "name", "master", "exporting", "download", "history"];

/** @param {{session: object, processors: object[], trackSettings: object[], sound: {worklet: string, worker: string}}} data */
export const desk = (data) => () => {
  // Kept out of Alpine's reach: these change sixty times a second.
  let parts, tempo, live, view, bench, previews, list, attempted = {}, changes = 0, underway = 0;

  return {
    session: data.session,
    processors: data.processors,
    shortcuts: SHORTCUTS,
    trackId: data.session.document.order[0] ?? null,
    processorId: null,
    playing: false,
    listen: "result",
    listens: [["result", "Result"], ["source", "Source"], ["difference", "Difference"]],
    problem: "",
    lost: false,
    adding: false,
    jobs: [],
    format: "wav",
    bits: "24",
    dragged: null,
    renaming: false,
    copying: false,
    steps: [],
    newName: "",

    get document() { return this.session.document; },
    get track() { return this.document.tracks[this.trackId] ?? null; },
    get chain() { return this.track?.chain ?? []; },
    get processor() { return this.chain.find((entry) => entry.id === this.processorId) ?? null; },
    get canUndo() { return this.session.undo !== null && this.session.undo !== undefined; },
    get canRedo() { return this.session.redo !== null && this.session.redo !== undefined; },
    get undoTitle() { return this.canUndo ? `Undo: ${this.session.undo}` : "Nothing to undo"; },
    get redoTitle() { return this.canRedo ? `Redo: ${this.session.redo}` : "Nothing to redo"; },
    get empty() { return this.document.order.length === 0; },
    get keptText() { return this.lost ? "connection lost" : `Kept · step ${this.session.step}`; },
    get takeNote() {
      const take = this.track && this.session.takes[this.track.take_id];
      return take ? `${take.channels === 1 ? "mono" : "stereo"} · ${clock(take.frames / this.document.sample_rate)}` : "";
    },
    /** What is known of the chosen processor's type. */
    get kind() { return this.processors.find((p) => p.type === this.processor?.type); },
    labelOf(entry) { return this.processors.find((p) => p.type === entry.type).label; },
    isSelected(entry) { return entry.id === this.processorId; },

    init() {
      this.$nextTick(() => this.begin());
    },

    /** Once the page's parts are there. */
    begin() {
      const { document: session } = this.session;
      parts = Object.fromEntries(PARTS.map((name) => [name, this.$refs[name]]));
      live = new Live(this.session.id, session.sample_rate, data.sound);
      live.addEventListener("state", () => { this.playing = live.playing; });
      live.addEventListener("kept", () => this.refresh());
      live.addEventListener("problem", ({ detail }) => this.complain(detail));
      live.addEventListener("lost", () => { this.lost = true; });
      live.addEventListener("back", () => { this.lost = false; this.refresh(); });
      view = new TakeView(parts.take, {
        view: () => previews?.ask(),
        seek: (frame) => { live.seek(frame); this.drawNow(); },
        loop: (loop) => this.change({ kind: "set_session", loop }),
        threshold: (db) => this.attemptThreshold(db),
        keepThreshold: () => bench.controls.get(this.kind.line).settle(),
        nudge: (direction, fine) => bench.controls.get(this.kind.line).nudge(direction, fine),
      });
      bench = new Bench(parts.bench, {
        attempt: (name, value) => this.attempt(name, value),
        keep: (name, value) => this.keepSetting(name, value),
        tempo: () => this.document.tempo_bpm,
      });
      tempo = new NumberControl(data.tempo, {
        attempt: () => {},
        keep: (bpm) => this.change({ kind: "set_session", tempo_bpm: bpm }),
        tempo: () => this.document.tempo_bpm,
      });
      parts.tempo.append(tempo.root);
      list = new TrackList(data.trackSettings, {
        move: (trackId, index) => this.change({ kind: "move_track", track_id: trackId, index }),
        attempt: (trackId, values) => live.send({ type: "try_track", track_id: trackId, ...values }),
        keep: (trackId, values) => this.change({ kind: "set_track", track_id: trackId, ...values }),
        select: (trackId) => this.select(trackId),
        tempo: () => this.document.tempo_bpm,
      });
      previews = new Previewer(this.session.id, () => this.wish(), (answer) => this.draw(answer));
      window.addEventListener("keydown", keyHandler(this));
      window.addEventListener("themechange", () => { view.paint(); bench.paint(); });
      window.reins = { live, previews }; // read by the browser tests and the benchmarks
      this.select(this.trackId);
      let last = 0;
      const tick = (now) => {
        const figures = now - last > FIGURES_MS;
        if (figures) last = now;
        this.drawNow(figures);
        requestAnimationFrame(tick);
      };
      requestAnimationFrame(tick);
    },

    changeTheme() { window.changeTheme(); },

    complain(sentence) {
      this.problem = sentence;
      clearTimeout(this.complaint);
      this.complaint = setTimeout(() => { this.problem = ""; }, 9000);
    },

    async tried(work) {
      try {
        return await work();
      } catch (error) {
        if (!(error instanceof api.ApiError)) throw error;
        this.complain(error.message);
        return null;
      }
    },

    /** Show what is kept. An answer that an own change has overtaken is dropped: that change asks again. */
    async refresh() {
      const before = changes;
      const state = await this.tried(() => api.getSession(this.session.id));
      if (!state || before !== changes || underway) return;
      this.session = state;
      if (this.track) this.showAll();
      else this.select(this.document.order[0] ?? null);
    },

    select(trackId) {
      this.trackId = trackId;
      this.processorId = this.chain[0]?.id ?? null;
      const frames = this.takeFrames();
      view.show({ picture: null, end: frames });
      this.showAll();
      view.look(0, frames);
      if (this.track) this.tried(async () => { bench.levels = await api.levels(this.session.id, trackId); bench.paint(); });
    },

    takeFrames() {
      return this.track ? this.session.takes[this.track.take_id].frames : 1;
    },

    selectProcessor(id) {
      this.processorId = id;
      this.showAll();
    },

    showAll() {
      attempted = {};
      if (!this.processor) this.processorId = this.chain[0]?.id ?? null;
      const { sample_rate: sampleRate, tempo_bpm: tempoBpm, beats_per_bar: beatsPerBar, loop } = this.document;
      view.show({ sampleRate, tempoBpm, beatsPerBar, loop: { ...loop }, thresholdDb: this.thresholdDb(), line: this.kind?.settings.find((s) => s.name === this.kind.line) });
      tempo.set(tempoBpm);
      list.show(parts.tracks, this.document, this.trackId);
      if (this.processor) {
        bench.build(this.kind);
        bench.set(this.processor.settings);
      }
      previews.ask();
    },

    /** The threshold as it lies on the source: drive lifts the sound towards it. */
    thresholdDb() {
      if (!this.processor) return null;
      const settings = { ...this.processor.settings, ...attempted };
      return settings[this.kind.line] - settings.input_db;
    },

    attemptThreshold(level) {
      const control = bench.controls.get(this.kind.line);
      const { low, high } = control.setting;
      const drive = attempted.input_db ?? this.processor.settings.input_db;
      control.move(Math.min(high, Math.max(low, Math.round((level + drive) * 10) / 10)));
    },

    attempt(name, value) {
      attempted = { ...attempted, [name]: value };
      live.send({ type: "try", track_id: this.trackId, processor_id: this.processorId, settings: attempted });
      view.show({ thresholdDb: this.thresholdDb() });
      if (name in this.processor.settings) bench.settings = { ...bench.settings, [name]: value };
      previews.ask();
    },

    keepSetting(name, value) {
      return this.change({ kind: "set_processor", track_id: this.trackId, processor_id: this.processorId, settings: { [name]: value } });
    },

    change(change) {
      return this.send(() => api.change(this.session.id, change));
    },

    /** Send a change, then show what is kept: the change, or, when it was refused, what was there before. */
    async send(work) {
      changes += 1;
      underway += 1;
      const kept = await this.tried(work);
      underway -= 1;
      await this.refresh();
      return kept;
    },

    wish() {
      if (!this.track) return null;
      const { start, frames, sampleRate } = view.model;
      const chain = this.chain.map(({ id, type, on, settings }) => [id, type, on, id === this.processorId ? overlaid(settings, attempted) : settings]);
      const settings = this.processorId ? attempted : {};
      return { track: this.trackId, processor_id: this.processorId, settings, chain: JSON.stringify(chain), start, frames, columns: view.columns, sampleRate };
    },

    draw(answer) {
      if (answer.track !== this.trackId) return;
      view.show({ picture: answer });
      bench.show(answer);
    },

    /** The playhead moves with every frame of the screen; figures and meters, costlier to lay out, less often. */
    drawNow(figures = true) {
      const frame = live.position();
      if (this.playing) view.follow(frame);
      view.playhead(frame);
      if (!figures) return;
      putText(parts.position, bars(frame, this.document));
      putText(parts.clock, clock(frame / this.document.sample_rate));
      list.meter(live.meters);
      const stage = live.meters?.gains[this.processorId];
      bench.point(stage ? stage.slice(1) : null);
      for (const station of parts.chain.querySelectorAll("[data-processor]")) {
        const gain = live.meters?.gains[station.dataset.processor]?.[0] ?? 0;
        putText(station.querySelector(".station-gain"), gain < -0.05 ? `${gain.toFixed(1).replace("-", "−")} dB` : "");
        putStyle(station.querySelector(".station-held"), "width", `${Math.round(Math.min(-gain / 24, 1) * 100)}%`);
      }
      const [left, right] = live.meters?.master ?? [-120, -120];
      putText(parts.master, `${Math.max(left, right) > -100 ? Math.max(left, right).toFixed(1).replace("-", "−") : "–"} dB peak`);
    },

    toggle() { if (this.playing) live.stop(); else live.play(live.frame); },
    toLoopStart() { live.seek(this.document.loop.on ? this.document.loop.start_frame : 0); },
    toggleLoop() {
      const { loop } = this.document;
      const span = loop.end_frame > loop.start_frame ? loop : { start_frame: view.model.start, end_frame: Math.min(view.model.start + view.model.frames, this.takeFrames()) };
      this.change({ kind: "set_session", loop: { ...span, on: !loop.on } });
    },
    hear(what) { this.listen = what; live.listen(what); },
    undo() { return this.send(() => api.undo(this.session.id)); },
    redo() { return this.send(() => api.redo(this.session.id)); },

    async showHistory() {
      const { steps } = (await this.tried(() => api.history(this.session.id))) ?? { steps: [] };
      this.steps = steps;
      if (!parts.history.open) parts.history.showModal();
    },
    async goTo(step) {
      await this.send(() => api.goToStep(this.session.id, step.number));
      await this.showHistory();
    },
    draftTitle(number) {
      if (this.copying) return `Copy this chain to draft ${number}`;
      return this.track?.drafts[number] || number === this.track?.draft ? `Draft ${number}` : `Draft ${number}: begins as a copy`;
    },
    useDraft(number) {
      if (!this.track) return;
      const copy = this.copying && number !== this.track.draft;
      this.copying = false;
      this.onTrack(copy ? "copy_draft" : "use_draft", { draft: number });
    },
    startFrom(list_) {
      if (list_.value) this.onProcessor("start_from", this.processor, { name: list_.value });
      list_.value = "";
    },

    async add(type) {
      this.adding = false;
      const id = crypto.randomUUID().replaceAll("-", "").slice(0, 12);
      this.processorId = id;
      await this.change({ kind: "add_processor", track_id: this.trackId, type, processor_id: id });
      this.selectProcessor(id);
    },
    onTrack(kind, more = {}) { return this.change({ kind, track_id: this.trackId, ...more }); },
    beginRename() {
      this.newName = this.track.name;
      this.renaming = true;
      this.$nextTick(() => parts.name.select());
    },
    rename() {
      this.renaming = false;
      if (this.newName.trim()) this.onTrack("set_track", { name: this.newName.trim() });
    },
    onProcessor(kind, entry, more = {}) { return this.change({ kind, track_id: this.trackId, processor_id: entry.id, ...more }); },
    switchProcessor(entry) { return this.onProcessor("set_processor", entry, { on: !entry.on }); },
    drop(index) {
      if (this.dragged) this.onProcessor("move_processor", this.dragged, { index });
      this.dragged = null;
    },
    step(list_, current, by, choose) {
      const at = list_.indexOf(current);
      const next = list_[Math.min(list_.length - 1, Math.max(0, at + by))];
      if (next && next !== current) choose(next);
    },
    neighbourTrack(by) { this.step(this.document.order, this.trackId, by, (id) => this.select(id)); },
    neighbourProcessor(by) { this.step(this.chain.map((e) => e.id), this.processorId, by, (id) => this.selectProcessor(id)); },

    bringIn(files) {
      for (const file of files) {
        this.follow({ what: `Bringing in ${file.name}`, percent: 0 }, (shown) => api.bringIn(this.session.id, file, (percent) => { shown.percent = percent; }));
      }
    },
    async exportTrack() {
      parts.exporting.close();
      const { format, bits } = this;
      const job = await this.follow({ what: `Exporting ${this.track.name}`, percent: 0 }, () => api.exportTrack(this.session.id, this.trackId, { format, bits }));
      if (job?.state === "done") parts.download.href = api.jobFile(job.id), parts.download.click();
    },
    async follow(shown, begin) {
      this.jobs.push(shown);
      const row = this.jobs[this.jobs.length - 1];
      const job = await this.tried(async () => follow(await begin(row), row));
      this.jobs.splice(this.jobs.indexOf(row), 1);
      if (job?.state === "failed") this.complain(job.message);
      return job;
    },
    stopJob(row) { api.cancelJob(row.id); },
  };
};
