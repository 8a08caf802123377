// The bench of the chosen processor: its controls in groups, its pictures, and what it did.

import { element, makeControl } from "./control.js";
import { paintCurve } from "./draw/curve.js";
import { paintBurst, paintHistogram } from "./draw/small.js";

const FACTS = [
  ["held", "held for"],
  ["usual", "usual"],
  ["deepest", "deepest"],
  ["crest", "crest, dB"],
  ["loudness", "loudness, LUFS"],
];
const GROUPS = ["Level", "Time", "Detect", "Key", "Out"];

/** The value of a dotted setting name. */
export const settingOf = (settings, name) => name.split(".").reduce((part, key) => part[key], settings);

/** Settings with dotted names laid over them. */
export function overlaid(settings, over) {
  const laid = JSON.parse(JSON.stringify(settings));
  for (const [name, value] of Object.entries(over)) {
    const path = name.split(".");
    const last = path.pop();
    path.reduce((part, key) => part[key], laid)[last] = value;
  }
  return laid;
}

export class Bench {
  /**
   * @param {HTMLElement} root
   * @param {{attempt: (name: string, value: any) => void, keep: (name: string, value: any) => void, tempo: () => number}} to
   */
  constructor(root, to) {
    Object.assign(this, { root, to });
    this.panel = root.querySelector(".bench-controls");
    this.curve = root.querySelector(".curve-canvas");
    this.burst = root.querySelector(".burst-canvas");
    this.deep = root.querySelector(".histogram-canvas");
    this.facts = root.querySelector(".did-facts");
    this.controls = new Map();
    this.answer = this.levels = this.now = null;
    for (const canvas of [this.curve, this.burst, this.deep]) new ResizeObserver(() => this.paint()).observe(canvas);
  }

  /** Build the controls of a processor type. @param {{type: string, line: string, settings: object[]}} kind */
  build({ type, line, settings }) {
    if (this.type === type) return;
    this.type = type;
    this.line = line;
    this.answer = null;
    this.controls.clear();
    const groups = GROUPS.map((name) => [name, settings.filter((s) => s.group === name && s.kind !== "source")]).filter(([, rows]) => rows.length);
    this.panel.replaceChildren(...groups.map(([name, rows]) => this.group(name, rows)));
  }

  group(name, rows) {
    const box = element("section", `control-group control-group-${name.toLowerCase()}`, { "aria-label": name });
    const title = element("h3", "group-title");
    title.textContent = name;
    box.append(title, ...rows.map((setting) => this.control(setting).root));
    return box;
  }

  control(setting) {
    const control = makeControl(setting, {
      attempt: (value) => this.to.attempt(setting.name, value),
      keep: (value) => this.to.keep(setting.name, value),
      tempo: this.to.tempo,
    });
    this.controls.set(setting.name, control);
    return control;
  }

  /** Show a processor's settings. */
  set(settings) {
    for (const [name, control] of this.controls) control.set(settingOf(settings, name));
    this.settings = settings;
  }

  /** Show an answer of the previewer. */
  show(answer) {
    this.answer = answer.curve ? answer : null;
    if (answer.whole) this.tell(answer);
    this.paint();
  }

  /** What it did, over the whole take. */
  tell({ statistics, source, result, histogram }) {
    const figure = (value, unit = "dB") => (value === null ? "–" : `${value.toFixed(1).replace("-", "−")} ${unit}`.trim());
    const told = {
      held: `${statistics.held_pct.toFixed(0)} % of the take`,
      usual: figure(statistics.usual_db),
      deepest: figure(statistics.deepest_db),
      crest: `${figure(source.crest_db, "")} → ${figure(result.crest_db, "")}`,
      loudness: `${figure(source.integrated_lufs, "")} → ${figure(result.integrated_lufs, "")}`,
    };
    this.facts.replaceChildren(
      ...FACTS.map(([name, label]) => {
        const row = element("div", "did-row", { "data-fact": name });
        const [term, value] = [element("dt", ""), element("dd", "")];
        [term.textContent, value.textContent] = [label, told[name]];
        row.append(term, value);
        return row;
      }),
    );
    this.histogram = histogram;
  }

  /** The moving point: level in and level out of now, in dB. */
  point(now) {
    if (String(now) === String(this.now)) return;
    this.now = now;
    this.paintCurve();
  }

  paint() {
    if (!this.answer) return;
    this.paintCurve();
    paintBurst(this.burst, this.answer.burst);
    paintHistogram(this.deep, this.histogram || []);
  }

  paintCurve() {
    if (!this.answer || !this.settings) return;
    paintCurve(this.curve, {
      curve: this.answer.curve, levels: this.levels, now: this.now,
      thresholdDb: this.settings[this.line] - this.settings.input_db, kneeDb: this.settings.knee_db ?? 0,
    });
  }
}
