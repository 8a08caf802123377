// How often a session is fetched: once for a change, whether the page or the socket hears of it first.

import assert from "node:assert/strict";
import { test } from "node:test";

import { keeping } from "../../src/reins/web/static/js/state/keeping.js";

/** A desk at step 4 of a session that stands at `now.step`, and what it fetched and showed. */
function desk(now) {
  const seen = { fetched: 0, shown: [] };
  globalThis.fetch = async (path, options = {}) => {
    if (options.method !== "POST") seen.fetched += 1;
    await new Promise((resolve) => setTimeout(resolve));
    return new Response(JSON.stringify({ step: now.step }), { headers: { "content-type": "application/json" } });
  };
  const kit = { changes: 0, underway: 0, live: { changeRate() {} } };
  const state = {
    desk: { session: { id: "s", step: 4 }, document: {}, strip: {}, empty: false, showAll() { seen.shown.push(state.desk.session.step); } },
    hearing: { reaches: "mix", askMatching() {} }, referring: { follow() {} }, above: { follow() {} },
  };
  state.keeping = keeping(kit, state);
  return { seen, kept: state.keeping };
}

const change = () => fetch("/api/sessions/s/changes", { method: "POST" });

for (const told of ["before it is answered", "while the session is fetched", "at the end"]) {
  test(`an own change that the socket tells of ${told} is fetched once`, async () => {
    const now = { step: 5 };
    const { seen, kept } = desk(now);
    const work = async () => {
      if (told === "before it is answered") kept.follow(5);
      return change();
    };
    const sent = kept.send(work);
    if (told === "while the session is fetched") {
      while (!seen.fetched) await new Promise((resolve) => setTimeout(resolve));
      kept.follow(5);
    }
    await sent;
    await kept.follow(5);
    assert.deepEqual(seen, { fetched: 1, shown: [5] });
  });
}

test("what others change is fetched as it is told, also while the session is fetched", async () => {
  const now = { step: 5 };
  const { seen, kept } = desk(now);
  await kept.follow(5);
  assert.deepEqual(seen, { fetched: 1, shown: [5] });

  const sent = kept.send(change);
  now.step = 6;
  await sent;
  now.step = 7;
  await kept.follow(7);
  assert.deepEqual(seen, { fetched: 3, shown: [5, 6, 7] });
});
