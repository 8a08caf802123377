// The level axis: how it zooms, shifts and is read back.

import assert from "node:assert/strict";
import { test } from "node:test";

import { deeper, lines, magnified, readLevels, shifted, USUAL } from "../../src/reins/web/static/js/levels.js";

const many = (levels, step, times) => Array.from({ length: times }).reduce((now) => step(now), levels);

test("the floor goes down to −100 dB and up to 18 dB under the top", () => {
  assert.equal(many(USUAL, (now) => deeper(now, 1), 20).floor, -100);
  assert.equal(many(USUAL, (now) => deeper(now, -1), 20).floor, -18);
});

test("shifting keeps the span and stays between 0 and −100 dB", () => {
  assert.deepEqual(shifted(USUAL, -15), { top: -15, floor: -75, held: 18 });
  assert.deepEqual(shifted(USUAL, 40), USUAL);
  assert.deepEqual(shifted(USUAL, -400), { top: -40, floor: -100, held: 18 });
});

test("what is held is magnified step by step, until 1 dB is a third of the room", () => {
  assert.equal(many(USUAL, (now) => magnified(now, 1), 9).held, 3);
  assert.equal(many(USUAL, (now) => magnified(now, -1), 9).held, 36);
});

test("what was kept is read back, and anything else is as it came", () => {
  assert.deepEqual(readLevels({ top: -10, floor: -90, held: 6 }), { top: -10, floor: -90, held: 6 });
  for (const kept of [null, undefined, "x", {}, { top: 5, floor: -60, held: 18 }, { top: 0, floor: -160, held: 18 }, { top: 0, floor: -60, held: 5 }, { top: 0, floor: "low", held: 6 }]) assert.deepEqual(readLevels(kept), USUAL);
});

test("lines stand apart whatever the height", () => {
  for (const height of [40, 90, 200, 600]) {
    const perDb = height / 60;
    const found = lines(USUAL, perDb);
    assert.ok(found.length >= 1 && found.every((level, index) => index === 0 || (found[index - 1] - level) * perDb >= 20));
  }
});
