// What of settings is drawn on the spectrum; paths of settings; bars and clock.

import assert from "node:assert/strict";
import { test } from "node:test";

import { overlaid, valueAtPath } from "../../src/reins/web/static/js/paths.js";
import { keysOf, shapesOf } from "../../src/reins/web/static/js/shapes.js";

const band = (more) => ({ on: true, shape: "bell", freq_hz: 1000, q: 1, gain_db: 0, motion: "none", threshold_db: -30, ...more });

test("thresholds lie over what their bands cover, the rest between them", () => {
  const bands = [band({ motion: "compress", freq_hz: 200 }), band({ motion: "expand", shape: "high_shelf", freq_hz: 5000 }), band({})];
  const found = shapesOf("bells").thresholds({ bands, rest: { on: true, threshold_db: -20 } });

  assert.deepEqual(found.map(({ setting }) => setting), ["rest.threshold_db", "bands.0.threshold_db", "rest.threshold_db", "bands.1.threshold_db"]);
  assert.ok(found.every(({ from, to }, index) => from < to && (index === 0 || from >= found[index - 1].to)));
});

test("crossovers part the bands and keep their distance", () => {
  const settings = { crossovers_hz: [200, 2000], bands: [band(), band(), band()] };
  const lines = shapesOf("splits").lines(settings);

  assert.deepEqual(shapesOf("splits").regions(settings).map(({ span }) => span), [[20, 200], [200, 2000], [2000, 20000]]);
  assert.ok(lines[0].high < 2000 / 1.25 && lines[1].low > 200 * 1.25);
});

test("a relative band has no level to draw, and what covers nothing has no shape", () => {
  assert.deepEqual(shapesOf("span").thresholds({ low_hz: 5000, high_hz: 9000, threshold_db: -10, relative: true }), []);
  assert.deepEqual(shapesOf(null).regions({}), []);
});

test("keys are found in a processor and in its bands", () => {
  assert.deepEqual(keysOf({ key: { source: "self" }, bands: [{ key: { source: "a/after" } }, {}] }), ["a/after"]);
});

test("a path is laid over without touching what lies beneath", () => {
  const settings = { bands: [{ q: 1 }, { q: 2 }], crossovers_hz: [1, 2] };

  assert.equal(valueAtPath(overlaid(settings, { "bands.1.q": 5 }), "bands.1.q"), 5);
  assert.equal(overlaid(settings, { "crossovers_hz.0": 9 }).crossovers_hz[0], 9);
  assert.equal(settings.bands[1].q, 2);
});
