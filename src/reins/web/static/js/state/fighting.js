// @ts-check
// The fight: where the chosen strip and the one laid over it are strong at the same time, in words, each with ways out that
// are one click and one step.

import * as api from "../api.js";
import { newId } from "./editing.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const fighting = (kit, state) => ({
  /** @type {{low_hz: number, high_hz: number, said: string}[] | null} */
  regions: null,
  busy: false,
  with: "", // whom it was asked about

  get canAsk() { return state.frequencies.beside !== "" && state.desk.hasTake; },
  get shown() { return this.regions !== null && this.with === `${state.desk.stripId} ${state.frequencies.beside}`; },
  async ask() {
    if (this.shown) { this.forget(); return; }
    kit.fightNumber = (kit.fightNumber ?? 0) + 1;
    const number = kit.fightNumber;
    const { session, stripId } = state.desk;
    const other = state.frequencies.beside;
    this.busy = true;
    const answer = await state.keeping.tried(() => api.fight(session.id, stripId, { desk: kit.previews.desk, number, other }));
    if (number !== kit.fightNumber) return;
    Object.assign(this, { busy: false, regions: answer?.regions ?? null, with: `${stripId} ${other}` });
    kit.fightMap = answer?.map ?? null;
    state.mapping.paint();
  },
  forget() {
    this.regions = null;
    state.mapping.paint();
  },
  /** A processor for a region, that follows the other; one step. @param {string} type @param {Record<string, any>} settings */
  async add(type, settings) {
    const id = newId();
    const source = `${state.frequencies.beside}/after`;
    state.desk.processorId = id;
    const key = type === "dynamic_eq" ? {} : { "key.source": source };
    const kept = await state.editing.change({ kind: "add_processor", strip_id: state.desk.stripId, type, processor_id: id, settings: { ...key, ...settings }, lay: true });
    if (kept) this.forget();
    state.desk.selectProcessor(id);
  },
  /** In all regions that are found, in each as deep as they fight there. */
  makeRoom() { return this.add("make_room", { amount_db: -9 }); },
  /** A band of the dynamic EQ over the region, that hears the other there. */
  useBand({ low_hz: low, high_hz: high }) {
    const middle = Math.sqrt(Math.max(low, 20) * high);
    const band = { shape: "bell", freq_hz: Math.round(middle), q: Math.min(10, Math.max(0.3, middle / (high - Math.max(low, 20)))), motion: "compress", range_db: 9, key: { source: `${state.frequencies.beside}/after` } };
    return this.add("dynamic_eq", { bands: [Object.fromEntries(Object.entries(band).map(([name, value]) => [name, typeof value === "number" ? Math.round(value * 100) / 100 : value]))] });
  },
  duck() { return this.add("ducker", {}); },
});
