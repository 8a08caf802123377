import assert from "node:assert/strict";
import { test } from "node:test";
import { added, bent, extent, partOf, placedPoint, traced, valueOf, whole } from "../../src/reins/web/static/js/bends.js";

test("a bent piece is the formula's", () => {
  for (const bend of [-1, -0.4, 0.2, 1]) for (const t of [0, 0.25, 0.5, 1]) {
    assert.ok(Math.abs(bent(t, bend) - (Math.exp(6 * bend * t) - 1) / (Math.exp(6 * bend) - 1)) < 1e-12);
  }
  assert.equal(bent(0.3, 0), 0.3);
});

test("a curve stays before its first and after its last point and takes the later of two at one place", () => {
  const points = whole([[0.2, 1], [0.5, 0], [0.5, 0.8], [1, 0.2]]);
  assert.equal(valueOf(points, 0), 1);
  assert.equal(valueOf(points, 2), 0.2);
  assert.equal(valueOf(points, 0.5), 0.8);
  assert.ok(Math.abs(valueOf(points, 0.35) - 0.5) < 1e-12);
});

test("a point is moved no further than its neighbours, and one is added where it belongs", () => {
  const points = whole([[0, 0], [0.5, 1, 0.3], [1, 0]]);
  assert.deepEqual(placedPoint(points, 1, 2, 0.5)[1], [1, 0.5, 0.3]);
  assert.deepEqual(placedPoint(points, 1, -1, 0.5)[1], [0, 0.5, 0.3]);
  const [more, index] = added(points, 0.7, 0.4);
  assert.deepEqual([more[2], index, more.length], [[0.7, 0.4, 0], 2, 4]);
});

test("of a long line a part is drawn, with a point on either side, and its extent has no limit of length", () => {
  const points = whole(Array.from({ length: 200000 }, (_, at) => [at, at % 7]));
  assert.deepEqual(partOf(points, 10.5, 12.5).map(([at]) => at), [10, 11, 12, 13]);
  assert.deepEqual(partOf(points, 300000, 300001).map(([at]) => at), [199999]);
  assert.deepEqual(partOf(points, -5, -4).map(([at]) => at), [0]);
  assert.deepEqual(extent(points.map(([, value]) => value)), [0, 6]);
});

test("straight pieces are traced by their ends alone", () => {
  assert.equal(traced(whole([[0, 0], [1, 1]])).length, 2);
  assert.equal(traced(whole([[0, 0, 0.5], [1, 1]]), 10).length, 11);
});
