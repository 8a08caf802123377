// Numbers as they are said, read and laid along a line; the server says them alike (tests/core/test_words.py).

import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";

import { nudged, parsed, placed, spoken, valueAt } from "../../src/reins/web/static/js/values.js";

const words = JSON.parse(readFileSync(new URL("../words.json", import.meta.url), "utf8"));
const setting = (more) => ({ name: "x", label: "X", unit: "", low: 0, high: 100, default: 0, step: 1, scale: "linear", help: "", ...more });
const ATTACK = setting({ unit: "ms", high: 500, scale: "log", step: 0.1 });
const CUT = setting({ unit: "Hz", high: 20000, scale: "log" });

test("numbers are said as the server says them", () => {
  for (const [value, unit, text] of words) assert.equal(spoken(value, setting({ unit })), text);
});

test("what is typed is read with its unit, as a note length, or as off", () => {
  const read = [["5k", CUT, 5000], ["off", CUT, 0], ["0.12 s", ATTACK, 120], ["1/8", ATTACK, 250], ["1/8.", ATTACK, 375], ["1/4t", ATTACK, 1000 / 3], ["−18 dB", setting({ unit: "dB", low: -60, high: 0 }), -18], ["3,5", setting({ unit: ":1" }), 3.5], ["2 ms", setting({ unit: "µs", high: 10000 }), 2000], ["800 us", setting({ unit: "µs", high: 10000 }), 800], ["1.5 s", setting({ unit: "s" }), 1.5], ["400 ms", setting({ unit: "s" }), 0.4]];
  for (const [text, of, value] of read) assert.ok(Math.abs(parsed(text, of, 120) - value) < 1e-9, text);
});

test("what is no number, or outside the limits, says what is allowed", () => {
  for (const text of ["loud", "", "5 dB", "1/0", "600"]) assert.throws(() => parsed(text, ATTACK, 120), /Allowed: 0\.0 ms to 500 ms/, text);
});

test("a place along a line is that of its value, on any scale", () => {
  for (const of of [ATTACK, CUT, setting({}), setting({ low: 20, high: 20000, scale: "log" })]) {
    let last = -1;
    for (let value = of.low; value <= of.high; value += (of.high - of.low) / 37) {
      const place = placed(value, of);
      assert.ok(place > last && place >= 0 && place <= 1);
      assert.ok(Math.abs(valueAt(place, of) - value) <= Math.max(0.006 * value, of.step / 5 + 1e-9));
      last = place;
    }
  }
});

test("a step stays within the limits, and a fine one is smaller", () => {
  const gain = setting({ unit: "dB", low: -24, high: 24, step: 0.5 });
  assert.equal(nudged(23.8, 1, false, gain), 24);
  assert.equal(nudged(0, -1, true, gain), -0.05);
  assert.ok(nudged(100, 1, false, ATTACK) > nudged(100, 1, true, ATTACK));
});
