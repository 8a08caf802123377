// What is asked for when recordings have come in: their tempo, once they are shown.

import assert from "node:assert/strict";
import { test } from "node:test";

import { files } from "../../src/reins/web/static/js/state/files.js";

test("the tempo is asked for although the desk still looks empty when the last recording is in", async () => {
  globalThis.localStorage = { getItem: () => null };
  globalThis.fetch = async () => new Response(JSON.stringify({ found_bpm: 104, sure: true }), { headers: { "content-type": "application/json" } });
  const state = {
    desk: { session: { id: "s" }, document: { tempo_bpm: 120 }, empty: true },
    keeping: { tried: (work) => work(), refresh: async () => { state.desk.empty = false; } },
  };
  const came = Object.assign(files({}, state), { send: async () => null });

  await came.bringIn([{ name: "Strokes.wav" }]);

  assert.equal(came.foundBpm, 104);
});
