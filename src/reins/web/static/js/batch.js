// Many takes at once: gathered, held by a chain or each by an aim, heard before and after, taken away.

import * as api from "./api.js";
import { follow } from "./jobs.js";
import { filesOf } from "./shelf.js";

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
    this.problem = "";
    try {
      return await work();
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      this.problem = error.message;
      return null;
    }
  },
  put(told) {
    if (!told) return;
    Object.assign(this, { id: told.id, files: told.files, rows: told.rows.map(shown), sentence: told.sentence });
  },
  async begun() { if (!this.id) this.put(await api.beginBatch()); },

  async dropped(transfer) {
    const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
    await this.take(entries.length ? (await Promise.all(entries.map(filesOf))).flat() : transfer.files);
  },
  take(list) {
    return this.each([...list].sort((a, b) => a.name.localeCompare(b.name, undefined, { numeric: true })), (file) => api.addBatchFile(this.id, file));
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
    if (!list.length) return;
    Object.assign(this, { ownChain: await list[0].text(), ownName: list[0].name });
    await this.$nextTick();
    this.chain = this.ownChain;
  },

  async run() {
    const [format, bits] = this.written.split(" ");
    const how = this.how === "chain" ? { chain: this.chain } : { aim: this.aim, by: this.asks.label ? this.by : null };
    const begun = await this.tried(() => api.runBatch(this.id, { ...how, format, bits }));
    if (!begun) return;
    this.put(begun);
    this.running = true;
    this.job = begun.job_id;
    const watching = this.watch();
    const ended = await this.tried(() => follow({ id: begun.job_id, state: "running", percent: 0, seconds_left: null }, {}));
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
