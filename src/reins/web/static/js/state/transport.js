// @ts-check
// Playing, the loop, and going from strip to strip and from processor to processor.

import { tapped, tempoOf } from "../times.js";

const REST_MS = 1200; // after the last tap
/** What an address may open: places alone, nothing that changes the session. */
const PLACES = ["add", "aim", "spread", "blind", "export", "sets", "marks", "whole-chain", "map", "level"];

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const transport = (kit, state) => ({
  toggle() { if (state.desk.playing) kit.live.stop(); else kit.live.play(kit.live.frame); },
  toLoopStart() { kit.live.seek(state.desk.document.loop.on ? state.desk.document.loop.start_frame : 0); },
  toggleLoop() {
    const { loop } = state.desk.document;
    const { start, frames } = kit.view.model;
    const span = loop.end_frame > loop.start_frame ? loop : { start_frame: start, end_frame: Math.min(start + frames, state.desk.session.frames) };
    state.editing.change({ kind: "set_session", loop: { ...span, on: !loop.on } });
  },
  /** Go where an address leads: “#strip=Snare&at=16&open=aim”; the guide's buttons are such. @param {string} hash */
  goThere(hash) {
    const asked = new URLSearchParams(hash.replace(/^#/, ""));
    const { tracks, buses, master } = state.desk.document;
    const named = Object.entries({ ...tracks, ...buses, master }).find(([, { name }]) => name === asked.get("strip"));
    if (named) state.desk.select(named[0]);
    const at = Number(asked.get("at") ?? NaN);
    if (at >= 0) {
      kit.live.seek(at * state.desk.document.sample_rate);
      kit.view.follow(at * state.desk.document.sample_rate);
    }
    if (asked.get("name") === "open") {
      history.replaceState(null, "", location.pathname); // once
      state.editing.beginNaming();
    }
    const open = asked.get("open");
    if (open && PLACES.includes(open)) state.desk.$nextTick(() => /** @type {HTMLElement | null} */ (document.querySelector(`[data-do="${open}"]`))?.click());
  },
  step(list, current, by, choose) {
    const at = list.indexOf(current);
    const next = list[Math.min(list.length - 1, Math.max(0, at + by))];
    if (next && next !== current) choose(next);
  },
  /** One tap of the tempo; it is set once the hand rests. */
  tap() {
    kit.taps = tapped(kit.taps ?? [], performance.now());
    const bpm = tempoOf(kit.taps);
    clearTimeout(kit.tapping);
    if (bpm) kit.tapping = setTimeout(() => state.editing.change({ kind: "set_session", tempo_bpm: bpm }), REST_MS);
  },
  neighbourTrack(by) { this.step([...state.desk.document.order, ...state.desk.document.bus_order, "master"], state.desk.stripId, by, (id) => state.desk.select(id)); },
  neighbourProcessor(by) { this.step(state.desk.chain.map((e) => e.id), state.desk.processorId, by, (id) => state.desk.selectProcessor(id)); },
});
