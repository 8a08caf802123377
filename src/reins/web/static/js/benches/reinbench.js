// The bench of a rein: what it moves and how far, what moves it, and by the beat its curve.

import { whole } from "../bends.js";
import { element, NumberControl } from "../control.js";
import { makeControl } from "../makecontrol.js";
import { beatPlace, paintBeat } from "../draw/beat.js";
import { valueAtPath } from "../paths.js";
import { spoken } from "../values.js";
import { CurveHand } from "../views/curvehand.js";

const GROUPS = ["Beat", "Level", "Time", "Sidechain", "Detect"];
export const KINDS = { beat: "Duck to the beat", key: "Move by a key", line: "Ride by hand" };
/** Grids a point snaps to, in beats, as note lengths of a bar of four. */
export const GRIDS = [["1/4", 1], ["1/4t", 2 / 3], ["1/8", 1 / 2], ["1/8t", 1 / 3], ["1/16", 1 / 4], ["1/16t", 1 / 6], ["1/32", 1 / 8], ["1/64", 1 / 16]];

export class ReinBench {
  /**
   * @param {HTMLElement} root
   * @param {{catalogue: object, settingOf: (what: string) => object | null, nameOf: (what: string) => string, restOf: (what: string) => number,
   *   attempt: (rein: object) => void, keep: (rein: object) => void, sources: () => string[][], tempo: () => number,
   *   go: (what: string) => void}} to
   */
  constructor(root, to) {
    Object.assign(this, { root, to, rein: null, grid: 1 / 4, fold: null, controls: new Map() });
    this.canvas = root.querySelector(".beat-canvas");
    this.moves = root.querySelector(".rein-moves");
    this.by = root.querySelector(".rein-by");
    this.hand = new CurveHand(root.querySelector(".beat-hand"), {
      axes: () => beatPlace(this.canvas.clientWidth, this.canvas.clientHeight), ends: true, most: 64, addBy: "dblclick", limit: (value) => Math.min(1, Math.max(0, Math.round(value * 1000) / 1000)),
      snap: (at) => (Math.round((at * this.rein.by.beats) / this.grid) * this.grid) / this.rein.by.beats,
      step: () => this.grid / this.rein.by.beats,
      word: ([at, value]) => `beat ${(at * this.rein.by.beats + 1).toFixed(2)}, ${Math.round(100 * value)} %`,
      attempt: (points) => this.try({ points }),
      keep: (points) => this.keep({ points }),
    });
    new ResizeObserver(() => this.paint()).observe(this.canvas);
  }

  try(by) {
    this.rein = { ...this.rein, by: { ...this.rein.by, ...by } };
    this.paint();
    this.to.attempt(this.rein);
  }
  keep(by) { this.to.keep({ ...this.rein, by: { ...this.rein.by, ...by } }); }

  /** Show a rein. */
  show(rein) {
    const made = JSON.stringify([rein.id, rein.by.kind, rein.moves.map(({ what }) => what)]);
    this.rein = rein;
    if (made !== this.made) {
      this.made = made;
      this.build();
    }
    rein.moves.forEach((move, index) => {
      const control = this.controls.get(`to ${index}`);
      if (control) control.set(move.to);
    });
    for (const [name, control] of this.controls) if (!name.startsWith("to ")) control.set(valueAtPath(rein.by, name));
    if (rein.by.kind === "beat") this.hand.show(whole(rein.by.points));
    this.paint();
  }

  build() {
    const { rein, to } = this;
    this.controls.clear();
    this.moves.replaceChildren(...rein.moves.map((move, index) => this.move(move, index)));
    const settings = { beat: to.catalogue.beat, key: to.catalogue.key, line: [] }[rein.by.kind];
    const groups = GROUPS.filter((group) => settings.some((setting) => setting.group === group));
    this.by.replaceChildren(...groups.map((group) => {
      const box = element("section", "control-group", { "aria-label": group });
      const title = element("h3", "group-title");
      title.textContent = group;
      box.append(title, ...settings.filter((s) => s.group === group).map((setting) => this.setting(setting).root));
      return box;
    }));
  }

  /** A setting of what moves it. */
  setting(setting) {
    const put = (value) => {
      const by = structuredClone(JSON.parse(JSON.stringify(this.rein.by)));
      const [head, rest] = setting.name.split(".");
      if (rest) by[head][rest] = value;
      else by[head] = value;
      return by;
    };
    const control = makeControl(setting, {
      attempt: (value) => this.try(put(value)), keep: (value) => this.to.keep({ ...this.rein, by: put(value) }),
      tempo: this.to.tempo, sources: this.to.sources,
    });
    this.controls.set(setting.name, control);
    return control;
  }

  /** A setting that is moved: its name, where it rests, where it goes. */
  move(move, index) {
    const setting = this.to.settingOf(move.what);
    const row = element("div", "rein-move", { "data-what": move.what });
    const name = element("button", "text-button rein-what", { type: "button", title: "Show this setting" });
    name.textContent = this.to.nameOf(move.what);
    name.addEventListener("click", () => this.to.go(move.what));
    row.append(name);
    if (setting && move.to !== null) {
      const moved = (value) => ({ ...this.rein, moves: this.rein.moves.map((one, k) => (k === index ? { ...one, to: value } : one)) });
      const control = new NumberControl({ ...setting, label: "To", name: `to ${index}`, default: this.to.restOf(move.what), help: "Where the setting goes at the top of the movement; it rests where it stands." }, {
        attempt: (value) => { this.rein = moved(value); this.paint(); this.to.attempt(this.rein); },
        keep: (value) => this.to.keep(moved(value)),
        tempo: this.to.tempo,
      });
      this.controls.set(`to ${index}`, control);
      row.append(control.root);
    }
    if (this.rein.moves.length > 1) {
      const away = element("button", "text-button", { type: "button", "aria-label": `Move ${name.textContent} no more`, "data-remove-move": move.what });
      away.textContent = "×";
      away.addEventListener("click", () => this.to.keep({ ...this.rein, moves: this.rein.moves.filter((_, k) => k !== index) }));
      row.append(away);
    }
    return row;
  }

  paint() {
    if (this.rein?.by.kind !== "beat" || !this.canvas.clientWidth) return;
    const [first] = this.rein.moves;
    const setting = this.to.settingOf(first.what);
    const ends = setting ? [spoken(this.to.restOf(first.what), setting), spoken(first.to, setting)].map((word) => word.replace(" ", "")) : ["rest", "to"];
    paintBeat(this.canvas, { points: whole(this.rein.by.points), beats: this.rein.by.beats, grid: this.grid, fold: this.fold, ends });
    this.hand.place();
  }
}

