// What a session of stems is called.

import assert from "node:assert/strict";
import { test } from "node:test";
import { dayName, sharedName } from "../../src/reins/web/static/js/naming.js";

test("stems are named by what their names share, from either end", () => {
  assert.equal(sharedName(["Late Ferry - Kick.wav", "Late Ferry - Snare.wav", "Late Ferry - Voice Lead.wav"]), "Late Ferry");
  assert.equal(sharedName(["01_kick_late_ferry.wav", "02_snare_late_ferry.wav"]), "late ferry");
  assert.equal(sharedName(["late_ferry_01.wav", "late_ferry_02.wav"]), "late ferry");
});

test("names that share nothing, a number or a letter alone, or are one, give none", () => {
  for (const files of [["kick.wav", "snare.wav"], ["01 kick.wav", "01 snare.wav"], ["a kick.wav", "a snare.wav"], ["Late Ferry.wav"], []]) assert.equal(sharedName(files), "");
});

test("what is left of a name is never nothing: the whole of the shortest is not shared", () => {
  assert.equal(sharedName(["Late Ferry.wav", "Late Ferry Voice.wav"]), "Late");
});

test("without a name in common it is the day's", () => {
  assert.equal(dayName(new Date(2026, 11, 1)), "Session of 1 December");
});
