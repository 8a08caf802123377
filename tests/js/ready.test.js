// What the server cannot do before it has compiled it is asked for again until it can.

import assert from "node:assert/strict";
import { test } from "node:test";

import * as api from "../../src/reins/web/static/js/api.js";

const answer = (status, body) => ({ ok: status < 300, status, json: async () => body });

/** Answers one after the other, and what the page heard meanwhile. */
function serve(...answers) {
  const heard = [];
  globalThis.fetch = async () => answers.shift();
  globalThis.document = /** @type {any} */ ({ dispatchEvent: (event) => heard.push([event.type, event.detail]) });
  return heard;
}

test("a request that has to wait is made again, and the page hears why", async () => {
  const heard = serve(answer(503, { error: "3 of 89", getting_ready: true }), answer(200, { id: "x" }));

  assert.deepEqual(await api.getSession("x"), { id: "x" });
  assert.deepEqual(heard, [["reins-waits", { sentence: "3 of 89", path: "/api/sessions/x" }]]);
});

test("what is refused for another reason is refused at once", async () => {
  const heard = serve(answer(503, { error: "Getting ready: opening the shelf." }));

  await assert.rejects(api.getSession("x"), { message: "Getting ready: opening the shelf.", status: 503 });
  assert.deepEqual(heard, []);
});

test("a request that was given up for a newer one is not made again", async () => {
  serve(answer(503, { error: "3 of 89", getting_ready: true }));
  const given = new AbortController();
  const asked = api.preview("x", "y", {}, given.signal);
  globalThis.fetch = async (path, { signal }) => { signal.throwIfAborted(); };
  given.abort();

  await assert.rejects(asked, api.overtaken);
});
