// Taps of the tempo.

import assert from "node:assert/strict";
import { test } from "node:test";
import { tapped, tempoOf } from "../../src/reins/web/static/js/times.js";

test("four taps are a tempo, by all of them, and a pause begins anew", () => {
  let taps = [];
  for (const now of [0, 630, 1245]) taps = tapped(taps, now);
  assert.equal(tempoOf(taps), null);
  taps = tapped(taps, 1875);
  assert.equal(tempoOf(taps), 96);
  taps = tapped(taps, 6000);
  assert.deepEqual(taps, [6000]);
  assert.equal(tempoOf([0, 1, 2, 3]), null); // faster than any tempo
});
