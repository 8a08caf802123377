// @ts-check
// The session from above: every strip as one thin take with what its chain holds; a click goes there.

import * as api from "../api.js";
import { paintAbove } from "../draw/above.js";
import { rove } from "../roving.js";
import { clock } from "../times.js";

const COLUMNS = 800;
const AT_ONCE = 2;

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const above = (kit, state) => ({
  open: false,
  busy: false,
  /** @type {Record<string, {said: string, seen: any}>} by strip */
  found: {},

  /** @returns {{id: string, name: string, muted: boolean, edge: string, said: string}[]} */
  get rows() {
    if (!this.open) return [];
    const { document } = state.desk;
    return [...document.order, ...document.bus_order, "master"].map((id) => {
      const strip = document.tracks[id] ?? document.buses[id] ?? document.master;
      return { id, name: strip.name, muted: Boolean(strip.mute), edge: strip.colour, said: this.found[id]?.said ?? "" };
    });
  },

  toggle() {
    if (this.open) return this.leave();
    if (state.desk.empty || state.blinding.test) return;
    this.open = true;
    this.ask();
    state.desk.$nextTick(() => {
      if (!kit.aboveStop) {
        kit.aboveStop = rove(kit.parts.above, { selector: ".above-row" });
        new ResizeObserver(() => this.paintAll()).observe(kit.parts.above);
      }
      kit.parts.above.querySelector(`[data-above="${state.desk.stripId}"]`)?.focus();
    });
  },
  leave() {
    this.open = false;
    kit.aboveNumber = (kit.aboveNumber ?? 0) + 1;
    kit.parts.work.querySelector('[data-do="above"]')?.focus();
  },
  /** The session has changed. */
  follow() { if (this.open) this.ask(); },

  /** Have all strips looked at, those that did not change from memory. */
  async ask() {
    const number = (kit.aboveNumber = (kit.aboveNumber ?? 0) + 1);
    const ids = this.rows.map(({ id }) => id);
    this.busy = true;
    const work = async () => {
      for (let id = ids.shift(); id !== undefined && number === kit.aboveNumber; id = ids.shift()) await this.look(id, number);
    };
    await Promise.all(Array.from({ length: AT_ONCE }, work));
    if (number === kit.aboveNumber) this.busy = false;
  },
  async look(id, number) {
    const body = { desk: kit.previews.desk, number, columns: COLUMNS };
    const { made, problem } = await api.orProblem(() => api.above(state.desk.session.id, id, body));
    if (number !== kit.aboveNumber) return;
    this.found[id] = { seen: made, said: made ? this.words(made) : problem };
    state.desk.$nextTick(() => { kit.aboveStop?.(); this.paint(id); });
  },
  words({ held_pct: held, deepest_db: deepest, deepest_frame: frame }) {
    if (deepest > -0.5) return "nothing is held";
    return `held ${Math.round(held)} %, deepest −${Math.abs(deepest).toFixed(1)} dB at ${clock(frame / state.desk.document.sample_rate)}`;
  },
  paint(id) {
    const canvas = kit.parts.above.querySelector(`[data-above="${id}"] canvas`);
    if (canvas) paintAbove(canvas, this.found[id]?.seen ?? null, state.desk.session.frames || 1);
  },
  paintAll() { for (const { id } of this.rows) this.paint(id); },
  /** Where the session is, on every strip at once. @param {number} frame */
  playhead(frame) {
    if (this.open) kit.parts.above.style.setProperty("--at", String(frame / (state.desk.session.frames || 1)));
  },

  /** Go to a strip, where it was clicked; by the keyboard, where it is held deepest. @param {string} id @param {MouseEvent} event */
  goTo(id, event) {
    const canvas = /** @type {HTMLElement} */ (event.currentTarget).querySelector("canvas");
    const box = canvas?.getBoundingClientRect();
    const inside = box && event.detail > 0 && event.clientX >= box.left;
    const frame = inside ? ((event.clientX - box.left) / box.width) * state.desk.session.frames : this.found[id]?.seen?.deepest_frame ?? 0;
    this.leave();
    state.desk.select(id);
    kit.live.seek(Math.round(frame));
    kit.view.follow(Math.round(frame));
  },
});
