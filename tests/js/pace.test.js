// How often the desk draws: seldom while nobody is at it, at once when somebody is, and never twice over.

import assert from "node:assert/strict";
import { mock, test } from "node:test";

mock.timers.enable({ apis: ["setTimeout"] });
let now = 0;
const asked = [];
Object.assign(globalThis, {
  window: new EventTarget(),
  matchMedia: () => ({ matches: false }),
  document: { createElement: () => ({ getContext: () => null }) }, // no graphics card
  requestAnimationFrame: (draw) => asked.push(draw),
});
performance.now = () => now;
const { keepDrawing } = await import("../../src/reins/web/static/js/pace.js");

/** How often it draws in some time. */
function drawn(count, ms) {
  const before = count.pictures;
  for (const end = now + ms; now < end; now++) {
    mock.timers.tick(1);
    for (const draw of asked.splice(0)) draw(now);
  }
  return count.pictures - before;
}

test("at rest it draws four times a second; a touch and sound wake it, once each", () => {
  const live = Object.assign(new EventTarget(), { playing: false, short: () => false });
  const count = { pictures: 0 };
  keepDrawing(() => count.pictures++, live);

  drawn(count, 2000);
  assert.ok(drawn(count, 2000) <= 9);
  for (let i = 0; i < 5; i++) window.dispatchEvent(new Event("pointermove"));
  assert.equal(drawn(count, 10), 1);
  assert.ok(drawn(count, 290) <= 5); // as after one touch
  drawn(count, 2000);

  live.playing = true; // by nobody's hand
  live.dispatchEvent(new Event("state"));
  assert.equal(drawn(count, 10), 1);
  const playing = drawn(count, 2000);
  assert.ok(playing > 28 && playing < 36, String(playing));
});
