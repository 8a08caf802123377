// What the previewer asks for, in which order: of a long take figures of an excerpt first.

import assert from "node:assert/strict";
import { test } from "node:test";

import { Previewer } from "../../src/reins/web/static/js/previewer.js";

const RATE = 48000;

/** What is asked of the server for a take of so many seconds, of which so many are in view. */
async function asked(seconds, inView, processor = "p") {
  const bodies = [];
  const drawn = [];
  globalThis.fetch = async (_, { body }) => {
    bodies.push(JSON.parse(body));
    return new Response(JSON.stringify({ whole: bodies.at(-1).whole, ...(bodies.at(-1).excerpt ? { excerpt: [0, 10] } : {}) }), { headers: { "content-type": "application/json" } });
  };
  const wish = { strip: "s", processor_id: processor, settings: {}, chain: "", start: 0, frames: inView * RATE, end: seconds * RATE, columns: 800, sampleRate: RATE };
  const previewer = new Previewer("id", () => wish, (answer) => drawn.push(answer), () => {});
  previewer.ask();
  await previewer.settled();
  assert.ok(bodies.every((body) => !("end" in body) && !("sampleRate" in body)));
  assert.equal(drawn.length, bodies.length);
  return bodies.map(({ whole, excerpt }) => (excerpt ? "excerpt" : whole ? "whole" : "view"));
}

test("of a long take figures of an excerpt come first", async () => {
  assert.deepEqual(await asked(300, 300), ["excerpt", "whole"]);
  assert.deepEqual(await asked(300, 20), ["excerpt", "view", "whole"]);
});

test("a short take, or a strip with no processor chosen, needs none", async () => {
  assert.deepEqual(await asked(40, 40), ["view", "whole"]);
  assert.deepEqual(await asked(300, 20, null), ["view", "whole"]);
});
