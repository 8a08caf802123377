// Follows long work on the server until it has ended.

import { getJob } from "./api.js";

const POLL_MS = 250;

/** @param {{id: string}} job @param {object} row is told percent and seconds left @returns {Promise<object>} the ended job */
export async function follow(job, row) {
  let now = job;
  while (now.state === "running") {
    Object.assign(row, { id: now.id, what: now.what, percent: now.percent ?? 0, left: now.seconds_left === null ? "" : `${now.seconds_left} s left` });
    await new Promise((resolve) => setTimeout(resolve, POLL_MS));
    now = await getJob(job.id);
  }
  return now;
}
