// Every request to the server goes through here; every problem becomes one class with a sentence for the person.

export class ApiError extends Error {
  /** @param {string} sentence @param {number} status */
  constructor(sentence, status) {
    super(sentence);
    this.status = status;
  }
}

const LOST = "The desk cannot reach its server; what was kept is safe. It will try again.";

/** @param {string} path @param {RequestInit} [options] */
async function request(path, options = {}) {
  let response;
  try {
    response = await fetch(path, options);
  } catch (error) {
    if (error.name === "AbortError") throw error;
    throw new ApiError(LOST, 0);
  }
  const body = await response.json().catch((error) => {
    if (error.name === "AbortError") throw error;
    return {};
  });
  if (!response.ok) throw new ApiError(body.error || LOST, response.status);
  return body;
}

const post = (path, body, signal) =>
  request(path, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(body), signal });

export const newSession = (name) => post("/api/sessions", { name });
export const getSession = (id) => request(`/api/sessions/${id}`);
export const change = (id, body) => post(`/api/sessions/${id}/changes`, body);
export const undo = (id) => post(`/api/sessions/${id}/undo`, {});
export const redo = (id) => post(`/api/sessions/${id}/redo`, {});
export const history = (id) => request(`/api/sessions/${id}/history`);
export const goToStep = (id, number) => post(`/api/sessions/${id}/history`, { number });
export const preview = (id, track, body, signal) => post(`/api/sessions/${id}/tracks/${track}/preview`, body, signal);
export const levels = (id, track) => request(`/api/sessions/${id}/tracks/${track}/levels`);
export const exportTrack = (id, track, body) => post(`/api/sessions/${id}/tracks/${track}/export`, body);
export const getJob = (id) => request(`/api/jobs/${id}`);
export const cancelJob = (id) => request(`/api/jobs/${id}`, { method: "DELETE" });
export const jobFile = (id) => `/api/jobs/${id}/file`;

/** Send a file up; `progress` hears percent. Resolves to the job that brings it in. */
export function bringIn(id, file, progress) {
  return new Promise((resolve, reject) => {
    const sender = new XMLHttpRequest();
    const form = new FormData();
    form.append("file", file);
    sender.upload.onprogress = (event) => progress(Math.round((100 * event.loaded) / event.total));
    sender.onerror = () => reject(new ApiError(LOST, 0));
    sender.onload = () => {
      let body = {};
      try {
        body = JSON.parse(sender.responseText);
      } catch {
        body = { error: LOST };
      }
      if (sender.status < 300) resolve(body);
      else reject(new ApiError(body.error, sender.status));
    };
    sender.open("POST", `/api/sessions/${id}/takes`);
    sender.send(form);
  });
}
