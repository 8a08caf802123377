// @ts-check
// Controls for what does not fit a bead or a few buttons: a choice among many, and a drawn line as typed points.

import { element } from "./control.js";
import { parsed, spoken } from "./values.js";

/** A choice among more values than stand beside each other. */
export class ListControl {
  /** @param {any} setting @param {any} to */
  constructor(setting, to) {
    Object.assign(this, { setting, to });
    this.root = element("label", "control control-source", { "data-setting": setting.name, "data-help": setting.help });
    const label = element("span", "control-label");
    label.textContent = setting.label;
    this.list = /** @type {HTMLSelectElement} */ (element("select", "control-list", { "aria-label": setting.label, "aria-description": setting.help }));
    this.list.append(...setting.options.map((option) => new Option(setting.words[option] ?? String(option), String(option))));
    this.list.addEventListener("change", () => {
      const value = setting.options.find((option) => String(option) === this.list.value);
      to.attempt(value);
      to.keep(value);
      this.list.blur();
    });
    this.root.append(label, this.list);
    this.set(setting.default);
  }

  set(value) { this.list.value = String(value); }
}

const POINT = /^(.*\S)\s+([−+-]?\d+(?:\.\d*)?\s*(?:db)?)$/i; // all before the last number is where it lies
const HZ = { name: "", label: "", unit: "Hz", low: 10, high: 30000, default: 1000, step: 1, scale: "log", help: "" };
const DB = { ...HZ, unit: "dB", low: -150, high: 60 };

/** Points of frequency or level and level, typed as “100 −40, 8k −52”. */
export class PointsControl {
  /** @param {any} setting @param {any} to */
  constructor(setting, to) {
    Object.assign(this, { setting, to });
    this.value = setting.default;
    this.at = setting.at === "dB" ? DB : HZ; // what its places are
    this.root = element("label", "control control-points", { "data-setting": setting.name, "data-help": setting.help });
    const label = element("span", "control-label");
    label.textContent = setting.label;
    this.field = /** @type {HTMLInputElement} */ (element("input", "control-typed", { type: "text", "aria-label": setting.label, "aria-description": setting.help }));
    this.error = element("span", "control-error", { role: "alert" });
    this.error.hidden = true;
    this.field.addEventListener("change", () => this.read(to));
    this.field.addEventListener("keydown", (event) => {
      if (event.key === "Enter") this.field.blur();
      if (event.key === "Escape") { this.set(this.value); this.field.blur(); }
    });
    this.root.append(label, this.field, this.error);
    this.set(this.value);
  }

  set(value) {
    this.value = value;
    this.error.hidden = true;
    this.field.value = value.map(([hz, db]) => `${spoken(hz, this.at).replace(/ Hz| dB/, "").replace(" kHz", "k")} ${spoken(db, DB).replace(" dB", "")}`).join(", ");
  }

  read(to) {
    try {
      const points = this.field.value.split(",").map((part) => {
        const [, hz, db] = POINT.exec(part.trim()) ?? [];
        if (db === undefined) throw new Error(`A point is a ${this.at === DB ? "level in and a level out, as “−20 −24”" : "frequency and a level, as “1k −40”"}; points are parted by commas.`);
        return [parsed(hz, this.at, 120), parsed(db, DB, 120), 0];
      });
      to.attempt(points);
      to.keep(points);
      this.error.hidden = true;
    } catch (error) {
      this.error.textContent = `${/** @type {Error} */ (error).message} Nothing was changed.`;
      this.error.hidden = false;
    }
  }
}

const MOST_BUTTONS = 5;

/** The class for a setting that is long; null for all others. @param {any} setting */
export const longKind = (setting) => (setting.kind === "points" ? PointsControl : setting.kind === "choice" && setting.options.length > MOST_BUTTONS ? ListControl : null);
