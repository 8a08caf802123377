// Every request to the server goes through here; every problem becomes one class with a sentence for the person.

export class ApiError extends Error {
  /** @param {string} sentence @param {number} status */
  constructor(sentence, status) {
    super(sentence);
    this.status = status;
  }
}

/** Whether a request was given up for a newer one. @param {unknown} error */
export const overtaken = (error) => error instanceof Error && error.name === "AbortError";

/** What work makes, or null and the sentence that it was refused with. */
export async function orProblem(work) {
  try {
    return { made: await work(), problem: "" };
  } catch (error) {
    if (!(error instanceof ApiError)) throw error;
    return { made: null, problem: error.message };
  }
}

const LOST = "The desk cannot reach its server; what was kept is safe. It will try again.";

const READY_AGAIN_MS = 400;

/** An answer that is what was asked for. What the server cannot do before it has compiled it is asked for again until it
 *  can; the page hears of that (`reins-waits`). @param {string} path @param {RequestInit} [options] */
async function answered(path, options = {}) {
  for (;;) {
    const response = await fetch(path, options).catch((error) => {
      throw overtaken(error) ? error : new ApiError(LOST, 0);
    });
    if (response.ok) return response;
    const body = await read(response);
    if (!body.getting_ready) throw new ApiError(body.error || LOST, response.status);
    document.dispatchEvent(new CustomEvent("reins-waits", { detail: { sentence: body.error, path } }));
    await new Promise((resolve) => setTimeout(resolve, READY_AGAIN_MS));
  }
}

const read = (response) => response.json().catch((error) => {
  if (overtaken(error)) throw error;
  return {};
});

/** @param {string} path @param {RequestInit} [options] */
const request = async (path, options) => read(await answered(path, options));

const post = (path, body, signal) =>
  request(path, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(body), signal });

export const newSession = (name) => post("/api/sessions", { name });
export const deleteSession = (id) => request(`/api/sessions/${id}`, { method: "DELETE" });
export const duplicateSession = (id) => post(`/api/sessions/${id}/copy`, {});
export const bringBack = (id) => post(`/api/deleted/${id}`, {});
export const restoreLost = (name) => post(`/api/lost/${encodeURIComponent(name)}`, {});
/** @param {"deleted" | "lost"} place */
export const forget = (place, id) => request(`/api/${place}/${encodeURIComponent(id)}`, { method: "DELETE" });
export const getSession = (id) => request(`/api/sessions/${id}`);
export const change = (id, body) => post(`/api/sessions/${id}/changes`, body);
export const undo = (id) => post(`/api/sessions/${id}/undo`, {});
export const redo = (id) => post(`/api/sessions/${id}/redo`, {});
export const history = (id) => request(`/api/sessions/${id}/history`);
export const goToStep = (id, number) => post(`/api/sessions/${id}/history`, { number });
export const preview = (id, strip, body, signal) => post(`/api/sessions/${id}/strips/${strip}/preview`, body, signal);
export const spectrum = (id, strip, body, signal) => post(`/api/sessions/${id}/strips/${strip}/spectrum`, body, signal);

/** A part of the map as bytes, column after column. @returns {Promise<Uint8Array>} */
export async function takeMap(id, strip, body, signal) {
  const options = { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(body), signal };
  const response = await answered(`/api/sessions/${id}/strips/${strip}/map`, options);
  return new Uint8Array(await response.arrayBuffer());
}

export const referenceGain = (id, body) => post(`/api/sessions/${id}/reference/gain`, body);
export const above = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/above`, body);
/** A page of the guide. @param {string} path @returns {Promise<string>} */
export async function guidePage(path) {
  const response = await fetch(path).catch(() => { throw new ApiError(LOST, 0); });
  if (!response.ok) throw new ApiError("The guide has no such page.", response.status);
  return response.text();
}

export const folded = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/folded`, body);
export const followed = (id, strip, body, signal) => post(`/api/sessions/${id}/strips/${strip}/followed`, body, signal);
export const beatCurve = (id, body) => post(`/api/sessions/${id}/beatcurve`, body);
export const marks = (id, strip, body, signal) => post(`/api/sessions/${id}/strips/${strip}/marks`, body, signal);
export const why = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/why`, body);
export const draftsCompared = (id, strip, one, other) => request(`/api/sessions/${id}/strips/${strip}/drafts/${one}/against/${other}`);
export const equal = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/equal`, body);
export const spread = (id, strip, processor, body) => post(`/api/sessions/${id}/strips/${strip}/processors/${processor}/spread`, body);
export const points = (id, strip, processor) => request(`/api/sessions/${id}/strips/${strip}/processors/${processor}/points`);
export const tile = (id, strip, body, signal) => post(`/api/sessions/${id}/strips/${strip}/tile`, body, signal);
export const worst = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/worst`, body);
export const beginBlind = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/blind`, body);
export const answerBlind = (id, test, answer) => post(`/api/sessions/${id}/blind/${test}/answers`, { answer });
export const endBlind = (id, test) => post(`/api/sessions/${id}/blind/${test}/end`, {});
export const leaveBlind = (id, test) => request(`/api/sessions/${id}/blind/${test}`, { method: "DELETE" });
export const chains = (id) => request(`/api/sessions/${id}/chains`);
export const chainsCompared = (id, strip, session, other) => request(`/api/sessions/${id}/strips/${strip}/against/${session}/${other}`);
export const fight = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/fight`, body);
export const aim = (id, strip, body, signal) => post(`/api/sessions/${id}/strips/${strip}/aim`, body, signal);
export const levels = (id, strip) => request(`/api/sessions/${id}/strips/${strip}/levels`);
/** The tempo that a session's takes have in common. */
export const tempo = (id) => request(`/api/sessions/${id}/tempo`);
export const matching = (id, body) => post(`/api/sessions/${id}/matching`, body);
export const matchMakeup = (id, strip, processor) => post(`/api/sessions/${id}/strips/${strip}/processors/${processor}/makeup`, {});
export const exportStrip = (id, strip, body) => post(`/api/sessions/${id}/strips/${strip}/export`, body);
export const traceGain = (id, strip, processor) => post(`/api/sessions/${id}/strips/${strip}/processors/${processor}/trace`, {});
export const measureMix = (id, body) => post(`/api/sessions/${id}/loudness`, body);
export const joinPair = (id, body) => post(`/api/sessions/${id}/pair`, body);
export const replaceTake = (id, trackId, file, progress) => sendFile(`/api/sessions/${id}/tracks/${trackId}/take`, file, progress);
/** Bring a file in to lie beside the mix. */
export const bringInReference = (id, file, percent) => sendFile(`/api/sessions/${id}/reference`, file, percent);
export const exportMix = (id, body) => post(`/api/sessions/${id}/mix`, body);
export const exportSession = (id) => post(`/api/sessions/${id}/file`, {});
export const keepPoint = (body) => post("/api/points", body);
export const keepChain = (id, strip, name) => post(`/api/sessions/${id}/strips/${strip}/chain-point`, { name });
export const removePoint = (id) => request(`/api/points/${id}`, { method: "DELETE" });
export const pointFile = (id) => `/api/points/${id}/file`;
export const getJob = (id) => request(`/api/jobs/${id}`);
export const cancelJob = (id) => request(`/api/jobs/${id}`, { method: "DELETE" });
export const jobFile = (id) => `/api/jobs/${id}/file`;

export const forgetBatch = (id) => request(`/api/batches/${id}`, { method: "DELETE" });
export const beginBatch = () => post("/api/batches", {});
export const getBatch = (id) => request(`/api/batches/${id}`);
export const addBatchFile = (id, file) => sendFile(`/api/batches/${id}/files`, file, () => {});
export const addBatchTake = (id, sessionId, trackId) => post(`/api/batches/${id}/takes`, { session_id: sessionId, track_id: trackId });
export const leaveBatchFile = (id, name) => request(`/api/batches/${id}/files/${encodeURIComponent(name)}`, { method: "DELETE" });
export const runBatch = (id, body) => post(`/api/batches/${id}/run`, body);

/** Bring a file in as a track. Resolves to the job that does it. */
export const bringInImpulse = (id, stripId, processorId, file, progress) => sendFile(`/api/sessions/${id}/strips/${stripId}/processors/${processorId}/impulses`, file, progress);
export const bringIn = (id, file, progress) => sendFile(`/api/sessions/${id}/takes`, file, progress);
export const openSessionFile = (file, progress) => sendFile("/api/sessionfiles", file, progress);

/** Send a file up; `progress` hears percent. */
export function sendFile(path, file, progress) {
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
    sender.open("POST", path);
    sender.send(form);
  });
}
