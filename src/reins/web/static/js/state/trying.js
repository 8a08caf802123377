// @ts-check
// The settings of the chosen processor in the hand: tried while they move, kept when they are let go.

import { drivenDb } from "../levels.js";
import { overlaid } from "../paths.js";
import { keysOf } from "../shapes.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const trying = (kit, state) => ({
  /** The threshold as it lies on the source: drive lifts the sound towards it. */
  thresholdDb() {
    if (!state.desk.processor || state.desk.empty || !state.desk.kind.line) return null;
    if (state.desk.processor.settings.relative) return null;
    const settings = { ...state.desk.processor.settings, ...kit.attempted };
    if (state.desk.kind.line_drives) { // it stands where the server says, and the drive moves the sound
      return kit.lineAt?.id === state.desk.processorId ? kit.lineAt.db + kit.lineAt.driven_db - drivenDb(settings) : null;
    }
    return settings[state.desk.kind.line] - drivenDb(settings);
  },
  /** Where a gate closes, when that is not where it opens. @returns {number | null} */
  closingDb() {
    const hysteresis = { ...state.desk.processor?.settings, ...kit.attempted }.hysteresis_db;
    const opensDb = this.thresholdDb();
    return hysteresis && opensDb !== null ? opensDb - hysteresis : null;
  },

  attemptThreshold(level) {
    const control = kit.bench.controls.get(state.desk.kind.line);
    const { low, high } = control.setting;
    const settings = { ...state.desk.processor.settings, ...kit.attempted };
    const to = (value) => control.move(Math.min(high, Math.max(low, Math.round(value * 10) / 10)));
    if (!state.desk.kind.line_drives) to(level + drivenDb(settings));
    else if (kit.lineAt) to(kit.lineAt.db + kit.lineAt.driven_db - level - drivenDb({ ...settings, input_db: 0 }));
  },

  attempt(name, value) { this.attemptMany({ [name]: value }); },
  /** Show what is tried. */
  afterAttempt(values) {
    kit.view.show({ thresholdDb: this.thresholdDb(), closingDb: this.closingDb() });
    kit.bench.outdate();
    for (const [name, value] of Object.entries(values)) if (name in state.desk.processor.settings) kit.bench.settings = { ...kit.bench.settings, [name]: value };
    if (state.frequencies.byFrequency) state.frequencies.showFrequencies();
    kit.previews.ask();
  },

  /** What is too much is mended by one step. */
  cure() {
    const { settings, lay } = state.desk.much;
    return lay ? state.editing.onProcessor("set_processor", state.desk.processor, { settings, lay }) : this.keepMany(settings);
  },
  keepSetting(name, value) { return this.keepMany({ [name]: value }); },

  wish() {
    if (!state.desk.strip || state.desk.empty || !state.desk.hasTake) return null;
    const { start, frames, sampleRate } = kit.view.model;
    const chain = state.desk.chain.map(({ id, type, on, settings }) => [id, type, on, id === state.desk.processorId ? overlaid(settings, kit.attempted) : settings]);
    const tried = state.desk.processorId ? kit.attempted : {};
    const keyed = state.desk.chain.some(({ on, settings }) => on && keysOf(settings).length > 0) || state.reins.list.length > 0;
    const before = keyed ? state.desk.session.step : state.frequencies.sourceKey;
    const putsOut = [state.desk.strip.chain_on, state.desk.strip.chain_mix_pct, state.desk.strip.puts_out];
    return { strip: state.desk.stripId, processor_id: state.desk.processorId, settings: tried, chain: JSON.stringify([before, chain, putsOut]), start, frames, end: state.desk.session.frames, columns: kit.view.columns, sampleRate };
  },
  attemptMany(values) {
    kit.attempted = { ...kit.attempted, ...values };
    kit.live.send({ type: "try", strip_id: state.desk.stripId, processor_id: state.desk.processorId, settings: kit.attempted });
    this.afterAttempt(values);
  },
  keepMany(values) {
    return state.editing.onProcessor("set_processor", state.desk.processor, { settings: values });
  },
  /** Raw settings of the chosen processor, what is tried laid over them. */
  settingsNow() {
    return state.desk.working ? overlaid(state.desk.processor.settings, kit.attempted) : null;
  },
});
