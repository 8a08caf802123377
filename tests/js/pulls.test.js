// A band that is pulled: as far as it may move, and from rest the way it is pulled.

import assert from "node:assert/strict";
import { test } from "node:test";

import { pulled } from "../../src/reins/web/static/js/pulls.js";

const FIELD = { low: 0, high: 60 };
const at = (band, db) => Object.fromEntries(pulled(FIELD, 2, band, db));

test("from rest it begins to move the way it is pulled", () => {
  assert.deepEqual(at({ motion: "none", range_db: 12 }, -6.2), { "bands.2.motion": "compress", "bands.2.range_db": 6 });
  assert.deepEqual(at({ motion: "none", range_db: 12 }, 4.3), { "bands.2.motion": "expand", "bands.2.range_db": 4.5 });
});

test("one that moves may go further the way it goes, within limits", () => {
  assert.deepEqual(at({ motion: "compress", range_db: 6 }, -3), { "bands.2.range_db": 9 });
  assert.deepEqual(at({ motion: "compress", range_db: 6 }, 9), { "bands.2.range_db": 0 });
  assert.deepEqual(at({ motion: "expand", range_db: 58 }, 9), { "bands.2.range_db": 60 });
});
