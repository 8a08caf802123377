// @ts-check
// What a rein may move on the chosen strip, by the name a rein gives it: "strip.fader_db", "PROCESSOR.threshold_db".

import { valueAtPath } from "../paths.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data of the page
 */
export const movable = (kit, state, data) => ({
  /** The description of what a rein of a strip names; null where it is not there. */
  settingOf(what, strip = state.desk.strip) {
    const [id, ...path] = what.split(".");
    const name = path.join(".");
    if (id === "strip") return this.ofStrip(strip).find((s) => s.name === name) ?? null;
    const entry = strip.chain.find((one) => one.id === id);
    const settings = entry ? state.desk.kindOf(entry).settings : [];
    const list = settings.find((s) => s.name === path[0] && s.kind === "list");
    if (!list) return settings.find((s) => s.name === name) ?? null;
    if (path.length === 2) return { ...list, kind: "number", label: `${list.label} ${Number(path[1]) + 1}`, default: list.default[path[1]] ?? list.high };
    const field = list.fields.find((f) => f.name === path.slice(2).join("."));
    return field ? { ...field, label: `${Number(path[1]) + 1} ${field.label.toLowerCase()}` } : null;
  },
  /** Of a strip itself, that what may be moved; the master has no pan. */
  ofStrip(strip) { return data.stripSettings["pan_pct" in strip ? "track" : "master"].filter(({ name }) => /fader_db|pan_pct/.test(name)); },
  nameOf(what, brief = false, strip = state.desk.strip) {
    const [id] = what.split(".");
    const label = this.settingOf(what, strip)?.label ?? what;
    if (id === "strip" || brief) return label;
    const entry = strip.chain.find((one) => one.id === id);
    return entry ? `${state.desk.labelOf(entry)}: ${label.toLowerCase()}` : label;
  },
  restOf(what) {
    const [id, ...path] = what.split(".");
    const settings = id === "strip" ? state.desk.strip : state.desk.chain.find((one) => one.id === id)?.settings;
    return settings ? valueAtPath(settings, path.join(".")) : 0;
  },
  /** All that may be moved on the strip, as [what, words], without what the rein moves already. */
  get all() {
    const known = new Set(state.reins.rein?.moves.map(({ what }) => what));
    const numbers = (prefix, settings) => settings.filter((s) => s.kind === "number" && s.moves).map((s) => `${prefix}.${s.name}`);
    const strip = numbers("strip", this.ofStrip(state.desk.strip));
    const whats = state.desk.chain.flatMap((entry) => state.desk.kindOf(entry).settings.flatMap((s) => {
      if (s.kind !== "list") return numbers(entry.id, [s]);
      return valueAtPath(entry.settings, s.name).flatMap((_, index) => (s.fields.length ? numbers(`${entry.id}.${s.name}.${index}`, s.fields) : [`${entry.id}.${s.name}.${index}`]));
    }));
    return [...strip, ...whats].filter((what) => !known.has(what)).map((what) => [what, this.nameOf(what)]);
  },
});
