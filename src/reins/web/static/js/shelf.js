// The shelf: a new session by name or from stems dropped here, or one opened from a session file.

import * as api from "./api.js";
import { follow } from "./jobs.js";
import { dayName, sharedName } from "./naming.js";

export const shelf = () => ({
  name: "",
  problem: "",
  rows: [],
  newName: "",
  naming: "",
  asked: { name: "", place: "", id: "" },

  /** Do something to what lies on the shelf, then show it as it is now. */
  async done(work) {
    if ((await this.tried(work)) !== null) location.reload();
  },
  remove(id) { return this.done(() => api.deleteSession(id)); },
  duplicate(id) { return this.done(() => api.duplicateSession(id)); },
  bringBack(id) { return this.done(() => api.bringBack(id)); },
  restore(name) { return this.done(() => api.restoreLost(name)); },
  askName(id, name) {
    Object.assign(this, { naming: id, newName: name });
    this.$refs.naming.showModal();
  },
  rename() {
    this.$refs.naming.close();
    return this.done(() => api.change(this.naming, { kind: "set_session", name: this.newName.trim() }));
  },
  ask(name, place, id) {
    this.asked = { name, place, id };
    this.$refs.asking.showModal();
  },
  forget() {
    this.$refs.asking.close();
    return this.done(() => api.forget(this.asked.place, this.asked.id));
  },

  async start() {
    await this.tried(async () => {
      const { id } = await api.newSession(this.name);
      location.assign(`/sessions/${id}`);
    });
  },
  async tried(work) {
    const { made, problem } = await api.orProblem(work);
    if (problem) this.problem = problem;
    return made;
  },

  /** Files and folders dropped on the page. */
  async dropped(transfer) {
    const { files, folder } = await filesIn(transfer);
    await this.take(files, folder);
  },

  /** One session file is opened; anything else becomes the tracks of a new session. */
  async take(list, name = "") {
    const wanted = inOrder(list);
    this.problem = "";
    if (wanted.length === 1 && wanted[0].name.toLowerCase().endsWith(".zip")) await this.open(wanted[0]);
    else if (wanted.length) await this.begin(wanted, name || nameFor(wanted));
  },
  async open(file) {
    const job = await this.follow(file, (progress) => api.openSessionFile(file, progress));
    if (job?.state === "done") location.assign(`/sessions/${job.result.session_id}`);
  },
  async begin(list, name) {
    const made = await this.tried(() => api.newSession(name.slice(0, 80)));
    if (!made) return;
    const jobs = [];
    for (const file of list) jobs.push(await this.follow(file, (progress) => api.bringIn(made.id, file, progress)));
    if (jobs.some((job) => job?.state === "done")) {
      const unnamed = name === dayName(new Date()); // it is not a name yet: open to be typed
      if (!this.problem) location.assign(`/sessions/${made.id}${unnamed ? "#name=open" : ""}`);
      else this.problem += " The others were brought in: open the session below.";
    }
  },
  async follow(file, begin) {
    this.rows.push({ what: file.name, percent: 0, left: "", id: null, state: "" });
    const row = this.rows[this.rows.length - 1];
    const job = await this.tried(async () => follow(await begin((percent) => { row.percent = percent / 2; }), row));
    row.state = job?.state === "done" ? "in" : job?.state === "cancelled" ? "stopped" : "not brought in";
    row.percent = 100;
    if (job?.state === "failed") this.problem = job.message;
    return job;
  },
  stop(row) { api.cancelJob(row.id); },
});

/** All files of what was dropped, and the name of the folder, where it is one. */
export async function filesIn(transfer) {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
  const folder = entries.length === 1 && entries[0].isDirectory ? entries[0].name : "";
  return { files: entries.length ? (await Promise.all(entries.map(filesOf))).flat() : [...transfer.files], folder };
}

/** In the order a person would put them. */
export const inOrder = (list) => [...list].sort((a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }));

/** All files of a dropped file or folder. */
async function filesOf(entry) {
  if (entry.isFile) return [await new Promise((resolve, reject) => entry.file(resolve, reject))];
  const reader = entry.createReader();
  const inside = [];
  for (let part; (part = await new Promise((resolve, reject) => reader.readEntries(resolve, reject))).length; ) inside.push(...part);
  const audio = inside.filter((inner) => inner.isDirectory || !inner.name.startsWith("."));
  return (await Promise.all(audio.map(filesOf))).flat();
}

/** A name for a session of these files: their folder, what their names share, or the day. */
const nameFor = (files) => files[0].webkitRelativePath?.split("/")[0] || sharedName(files.map(({ name }) => name)) || dayName(new Date());
