// Many takes at once: gathered, held by a chain or each by an aim, heard before and after, taken away.

import * as api from "./api.js";
import { follow } from "./jobs.js";
import { filesIn, inOrder } from "./shelf.js";

const number = (value, places = 1) => (value === null ? "–" : value.toFixed(places).replace("-", "−"));
const both = (before, after) => (after === null ? "–" : `${number(before)} → ${number(after)}`);

/** A row as it is shown. */
const shown = (row, place) => ({
  place, file: row.file, failed: row.done === "failed", note: row.problem || row.reason || "",
  lufs: both(row.lufs_before, row.lufs_after), peak: both(row.true_peak_before_dbtp, row.true_peak_after_dbtp),
  crest: both(row.crest_before_db, row.crest_after_db), usual: `${number(row.usual_db)} dB`, deepest: `${number(row.deepest_db)} dB`,
  held: row.held_pct === null ? "–" : `${row.held_pct.toFixed(0)} %`,
});

export const batch = () => ({
  id: "", files: [], rows: [], how: "chain", chain: "", ownChain: "", ownName: "", aim: "", by: null, asks: {}, written: "wav 24",
  problem: "", sentence: "", percent: 0, job: "", running: false, adding: 0, heard: "",

  init() {
    const first = this.$root.querySelector("[data-do='aim'] option");
    this.aim = first?.value ?? "";
    this.aimed();
    if (location.hash.length > 1) this.found(location.hash.slice(1));
  },
  /** A batch that was begun before the page was loaded anew; where it is gone, a new one begins. */
  async found(id) {
    const told = await this.tried(() => api.getBatch(id));
    this.problem = "";
    this.put(told);
    if (told?.job_id) await this.follow(told.job_id);
  },
  /** What the chosen aim asks for. */
  aimed() {
    const { asks, default: usual, unit, low, high } = [...this.$root.querySelectorAll("[data-do='aim'] option")].find((option) => option.value === this.aim)?.dataset ?? {};
    this.asks = { label: asks, unit, low, high };
    this.by = asks ? Number(usual) : null;
  },
  get ready() { return this.files.length > 0 && !this.running && !this.adding && (this.how === "aim" || this.chain !== ""); },
  get made() { return !this.running && this.rows.some((row) => !row.failed); },
  get zip() { return `/api/batches/${this.id}/zip`; },

  async tried(work) {
    const { made, problem } = await api.orProblem(work);
    this.problem = problem;
    return made;
  },
  put(told) {
    if (!told) return;
    history.replaceState(null, "", `#${told.id}`);
    Object.assign(this, { id: told.id, files: told.files, rows: told.rows.map(shown), sentence: told.sentence });
  },
  /** Leave a batch that was begun before. @param {HTMLElement} button */
  async forget(button) {
    const id = button.dataset.forget;
    if (await this.tried(() => api.forgetBatch(id)) === null) return;
    button.closest("li").remove();
    if (id === this.id) location.assign("/batch");
  },
  async begun() { if (!this.id) this.put(await api.beginBatch()); },

  async dropped(transfer) {
    await this.take((await filesIn(transfer)).files);
  },
  take(list) {
    return this.each(inOrder(list), (file) => api.addBatchFile(this.id, file));
  },
  fromSession(choice) {
    const [session, ...tracks] = choice.value.trim().split(/ +/);
    choice.value = "";
    return this.each(tracks, (track) => api.addBatchTake(this.id, session, track));
  },
  /** Add one after the other; one that is refused is told, the others come all the same. */
  async each(list, add) {
    this.adding += 1;
    const refused = [];
    await this.tried(() => this.begun());
    for (const one of list) {
      this.put(await this.tried(() => add(one)));
      if (this.problem) refused.push(this.problem);
    }
    this.adding -= 1;
    if (refused.length) this.problem = refused.join(" ");
  },
  async leave(file) { this.put(await this.tried(() => api.leaveBatchFile(this.id, file))); },
  async readChain(list) {
    const [file] = list;
    if (!file) return;
    Object.assign(this, { ownChain: await file.text(), ownName: file.name });
    await this.$nextTick();
    this.chain = this.ownChain;
  },

  async run() {
    const [format, bits] = this.written.split(" ");
    const how = this.how === "chain" ? { chain: this.chain } : { aim: this.aim, by: this.asks.label ? this.by : null };
    const begun = await this.tried(() => api.runBatch(this.id, { ...how, format, bits }));
    if (!begun) return;
    this.put(begun);
    await this.follow(begun.job_id);
  },
  async follow(job) {
    this.running = true;
    this.job = job;
    const watching = this.watch();
    const ended = await this.tried(() => follow({ id: job, state: "running", percent: 0, seconds_left: null }, {}));
    this.running = false;
    await watching;
    this.put(await this.tried(() => api.getBatch(this.id)));
    if (ended?.state === "failed") this.problem = ended.message;
    if (ended?.state === "cancelled") this.sentence = [this.sentence, "stopped; what is done stays."].filter(Boolean).join(" · ");
  },
  /** Rows as they come, while it runs. */
  async watch() {
    while (this.running) {
      this.put(await this.tried(() => api.getBatch(this.id)));
      this.percent = (100 * this.rows.length) / Math.max(1, this.files.length);
      await new Promise((resolve) => { setTimeout(resolve, 400); });
    }
  },
  stop() { return this.tried(() => api.cancelJob(this.job)); },

  sounds(row, which) { return this.heard === `${row.place} ${which}`; },
  /** Play before or after from the same place; once more stops. */
  hear(row, which) {
    const sound = this.$refs.sound;
    const [place] = this.heard.split(" ");
    if (this.sounds(row, which)) {
      sound.pause();
      this.heard = "";
      return;
    }
    const from = place === String(row.place) ? sound.currentTime : 0;
    this.heard = `${row.place} ${which}`;
    sound.src = `/api/batches/${this.id}/rows/${row.place}/${which}`;
    sound.currentTime = from;
    sound.play().catch(() => { this.problem = `${row.file}: this browser cannot play it; take it away to hear it.`; this.heard = ""; });
  },
});
