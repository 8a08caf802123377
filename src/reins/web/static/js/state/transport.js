// @ts-check
// Playing, the loop, and going from strip to strip and from processor to processor.

import { tapped, tempoOf } from "../times.js";

const REST_MS = 1200; // after the last tap

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
