// The bench of the chosen processor: its controls in groups, its pictures, and what it did.

import { element } from "./control.js";
import { makeControl } from "./makecontrol.js";
import { DrawnPoints } from "./drawnpoints.js";
import { longKind } from "./longcontrols.js";
import { curveLayout, paintCurve } from "./draw/curve.js";
import { drivenDb } from "./levels.js";
import { valueAtPath } from "./paths.js";
import { rove } from "./roving.js";
import { burstWords, curveWords, harmonicsWords, histogramWords, say } from "./saying.js";
import { spoken } from "./values.js";
import { paintBurst, paintHarmonics, paintHistogram } from "./draw/small.js";

const HELD_FACTS = [["held", "held for"], ["usual", "usual"], ["deepest", "deepest"]];
const LIFTED_FACTS = [["lifted", "lifted for, by"]]; // of what holds as well
const GATE_FACTS = [["open", "open for"], ["openings", "openings"], ["shortest", "shortest"]];
const LEVEL_FACTS = [["crest", "crest, dB"], ["loudness", "loudness, LUFS"], ["quietest", "quietest tenth"]];
const STRIP_FACTS = [["strip-crest", "strip, crest"], ["strip-loudness", "strip, LUFS"]];
/** Where groups stand that many processors have; a processor's own stand between the first of these and the rest. */
const LATER = ["Time", "Detect", "Sidechain", "Out"];
const OF_KEYS = ["Sidechain", "Key filter"];

const LEAST_PX = 56;
const LEVEL = { unit: "dB" };

export class Bench {
  /**
   * @param {HTMLElement} root
   * @param {{attempt: (name: string, value: any) => void, keep: (name: string, value: any) => void, match: () => void, follow: () => void, tempo: () => number, sources: () => string[][],
   *   recordings: () => string[][], bringInRecording: (file: File) => void, removeRecording: (id: string) => void, threshold: () => number | null, keyCurves: object[], useKeyCurve: (curve: any, names: string[]) => void, latchKey: () => void, keyInHand: (inHand: boolean) => void, rein: (name: string) => void}} to
   */
  constructor(root, to) {
    Object.assign(this, { root, to });
    this.panel = root.querySelector(".bench-controls");
    this.curve = root.querySelector(".curve-canvas");
    this.burst = root.querySelector(".burst-canvas");
    this.onlyFader = root.querySelector(".did-note");
    this.harmonics = root.querySelector(".harmonics-canvas");
    this.deep = root.querySelector(".histogram-canvas");
    this.facts = root.querySelector(".did-facts");
    this.controls = new Map();
    this.answer = this.levels = this.now = null;
    const send = (way) => (points) => to[way](this.drawnSetting.name, points);
    this.drawn = new DrawnPoints(root.querySelector(".curve-points"), root.querySelector(".curve-points"), { attempt: send("attempt"), keep: send("keep") });
    this.views = [];
    this.follows = false;
    document.addEventListener("pointerdown", ({ target }) => { // a click beside it closes what has opened
      if (this.openFilter?.open && !this.openFilter.contains(target)) this.openFilter.open = false;
    });
    for (const canvas of [this.curve, this.burst, this.harmonics, this.deep]) new ResizeObserver(() => this.paint()).observe(canvas);
  }

  /** Build the controls of a processor type. @param {{type: string, views: string[], line: string | null, line_drives: boolean, may_be_as_loud: boolean, settings: object[]}} kind */
  build({ type, views, line, line_drives: lineDrives, may_be_as_loud: mayBeAsLoud, settings }) {
    if (this.type === type) return;
    Object.assign(this, { type, views, line, lineDrives, mayBeAsLoud, answer: null, own: null });
    this.controls.clear();
    this.keepStops = [];
    this.drawnSetting = settings.find(({ kind, at }) => kind === "points" && at === "dB");
    this.followButton = null;
    this.hasMakeup = settings.some(({ name }) => name === "makeup_db");
    const lists = settings.filter(({ kind }) => kind === "list");
    const parts = lists.flatMap(({ rows = [] }) => rows.flatMap(({ cells }) => Object.values(cells))).filter((name) => name.includes("."));
    settings = settings.filter(({ kind, name }) => kind !== "list" && !parts.includes(name)); // those stand in a table
    const names = [...new Set(settings.map((s) => s.group))].filter((name) => name !== "Key filter");
    const groups = names.toSorted((a, b) => LATER.indexOf(a) - LATER.indexOf(b)).map((name) => [name, settings.filter((s) => s.group === name)]);
    this.keyFilter = settings.filter((s) => s.group === "Key filter" && s.name.startsWith("key."));
    // Where there is a sidechain, Out stands under the shortest column.
    const lines = (s) => ({ number: 1, choice: longKind(s) ? 0.8 : 1.4, source: 1, sources: 0.6, recording: 2, points: 1.5 })[s.kind];
    const tall = (group) => settings.filter((s) => s.group === group).reduce((sum, s) => sum + lines(s), 0);
    const [shortest] = ["Sidechain", "Level", "Time", "Detect"].toSorted((a, b) => tall(a) - tall(b));
    this.panel.classList.toggle("is-many", names.length > 6); // more than a grid of four columns holds: they flow
    this.panel.dataset.outUnder = names.includes("Sidechain") ? shortest.toLowerCase() : "";
    this.panel.replaceChildren(...groups.map(([name, rows]) => this.group(name, rows)));
  }

  group(name, rows) {
    const box = element("section", `control-group control-group-${name.toLowerCase()}`, { "aria-label": name });
    const title = element("h3", "group-title");
    title.textContent = name;
    box.append(title, ...rows.map((setting) => this.control(setting).root));
    this.keepStops.push(rove(box));
    if (name === "Sidechain") this.fillSidechain(box, title);
    return box;
  }

  /** The way of a key: a latch to hear it, ready curves, and its bell and shelf, which open. */
  fillSidechain(box, title) {
    const latch = element("button", "text-button key-latch", { type: "button", "aria-pressed": "false", "data-do": "latch-key", "data-help": "Hear what the detector hears; it is also heard while one of these controls is in the hand." });
    latch.textContent = "hear";
    latch.addEventListener("click", () => this.to.latchKey());
    this.latch = latch;
    title.append(" ", latch);
    const curves = element("select", "control-list key-curves", { "aria-label": "Ready key curve", "data-help": "Ready filters for what the detector hears.", "data-do": "key-curve" });
    curves.replaceChildren(new Option("ready curve", ""), ...this.to.keyCurves.map(({ name, sentence }) => Object.assign(new Option(name, name), { title: sentence })));
    curves.addEventListener("change", () => {
      this.to.useKeyCurve(this.to.keyCurves.find(({ name }) => name === curves.value), [...this.controls.keys()].filter((name) => /^key\.(low|high|bell|shelf)/.test(name)));
      curves.value = "";
      curves.blur();
    });
    const more = element("details", "key-filter");
    const summary = element("summary", "text-button");
    summary.textContent = "filter …";
    summary.title = "Ready curves, bell and shelf of what the detector hears";
    more.append(summary, curves, ...this.keyFilter.map((setting) => this.control(setting).root));
    box.querySelector(".control-sources").append(more);
    this.openFilter = more;
  }

  /** Show from where to where reins take the settings, by name. */
  markMoved(spans) {
    for (const [name, control] of this.controls) control.markMoved?.(spans[name]);
  }

  control(setting) {
    const Long = longKind(setting);
    const make = Long ? (/** @type {any} */ one, /** @type {any} */ to) => new Long(one, to) : makeControl;
    const control = make(setting, {
      attempt: (value) => this.to.attempt(setting.name, value),
      keep: (value) => this.to.keep(setting.name, value),
      tempo: this.to.tempo,
      sources: this.to.sources,
      recordings: this.to.recordings, bringInRecording: this.to.bringInRecording, removeRecording: this.to.removeRecording,
      rein: this.to.rein,
      hold: OF_KEYS.includes(setting.group) ? this.to.keyInHand : undefined,
    });
    this.controls.set(setting.name, control);
    if (setting.name === (this.hasMakeup ? "makeup_db" : "output_db")) {
      const match = element("button", "control-follow", { type: "button", "aria-label": "Match", "data-help": "Sets it so that result and source are equally loud, over the loop or everything.", "data-do": "match-makeup" });
      match.textContent = "=";
      match.addEventListener("click", () => this.to.match());
      control.root.querySelector(".control-label").append(match, ...(this.mayBeAsLoud ? [this.followSwitch()] : []));
    }
    return control;
  }

  /** Whether makeup goes with other settings while they move. */
  followSwitch() {
    const follow = element("button", "control-follow", { type: "button", "aria-label": "Makeup follows", "aria-pressed": String(this.follows), "data-help": "Follows: while other settings move, it goes with them, so that result and source stay equally loud.", "data-do": "follow-makeup" });
    follow.textContent = "⇅";
    follow.addEventListener("click", () => this.to.follow());
    this.followButton = follow;
    return follow;
  }
  /** @param {boolean} on */
  showFollowing(on) {
    this.follows = on;
    this.followButton?.setAttribute("aria-pressed", String(on));
  }

  /** Show a processor's settings. */
  set(settings) {
    if (this.settings && JSON.stringify(settings) !== JSON.stringify(this.settings)) this.outdate();
    for (const [name, control] of this.controls) {
      control.set(valueAtPath(settings, name));
      if (control.setting.unless) control.root.hidden = Boolean(valueAtPath(settings, control.setting.unless));
    }
    this.settings = settings;
    for (const keep of this.keepStops) keep();
  }

  /** Show an answer of the previewer. */
  show(answer) {
    this.answer = answer.frequency !== undefined ? answer : null;
    if (answer.whole || answer.excerpt) this.tell(answer);
    this.facts.classList.toggle("is-excerpt", Boolean(answer.excerpt) || (!answer.whole && this.facts.classList.contains("is-excerpt")));
    this.paint();
  }

  /** Figures are of a setting that is no longer. */
  outdate() { this.facts.classList.add("is-stale"); }

  /** What it did, over the whole take. */
  tell({ excerpt, steady_db: steady, statistics, source, result, before, after, quietest_db: quietest, before_levels: levels, histogram, gate, bands, ribbon }) {
    this.own = levels;
    this.facts.classList.remove("is-stale");
    const [into, out] = [before ?? source, after ?? result];
    const figure = (value, unit = "dB") => (value === null ? "–" : `${value.toFixed(1).replace(/^-0\.0$/, "0.0").replace("-", "−")} ${unit}`.trim());
    const lifts = statistics.usual_db > 0; // counted apart from what is held
    const signed = (value) => `${value > 0 ? "+" : ""}${figure(value)}`;
    const ofAll = excerpt ? "of that" : "of the take";
    const told = {
      held: `${(lifts ? statistics.held_pct : statistics.held_pct - statistics.lifted_pct).toFixed(0)} % ${ofAll}`,
      usual: signed(statistics.usual_db),
      deepest: signed(statistics.deepest_db),
      lifted: `${statistics.lifted_pct.toFixed(0)} %, ${signed(statistics.lifted_db)}`,
      crest: `${figure(into.crest_db, "")} → ${figure(out.crest_db, "")}`,
      loudness: `${figure(into.integrated_lufs, "")} → ${figure(out.integrated_lufs, "")}`,
      "strip-crest": `${figure(source.crest_db, "")} → ${figure(result.crest_db, "")}`,
      "strip-loudness": `${figure(source.integrated_lufs, "")} → ${figure(result.integrated_lufs, "")}`,
      quietest: quietest?.[0] == null || quietest[1] == null ? "–" : `${quietest[1] > quietest[0] ? "+" : ""}${figure(quietest[1] - quietest[0])}`,
      returns: statistics.return_s === null ? "–" : `${(statistics.return_s * 1000).toFixed(0)} ms`,
    };
    if (gate) {
      Object.assign(told, {
        open: `${gate.open_pct.toFixed(0)} % ${ofAll}`,
        openings: `${gate.openings}, ${gate.openings_per_bar.toFixed(1)} a bar`,
        shortest: gate.shortest_ms === null ? "–" : `${gate.shortest_ms.toFixed(0)} ms`,
      });
    }
    const inCharge = Object.keys(ribbon?.heard_db ?? {}).map((name, index, { length }) => {
      told[`in-charge-${name}`] = `${ribbon.shares_pct[length - index].toFixed(0)} %`;
      return [`in-charge-${name}`, `${name} in charge`];
    });
    const parts = Object.entries(bands ?? {});
    const named = parts.map(([gain, { times, usual_db: usual, deepest_db: deepest, mean_db: mean }]) => {
      const name = gain === "gain_db" ? "the band" : gain.replace(".gain_db", "").replace("band", "band ");
      told[gain] = times ? [usual, deepest, mean].map((value) => figure(value, "")).join(" / ") : "at rest";
      told.times = String(times);
      return [gain, name];
    });
    const ofBands = named.length && this.views.includes("bands") ? [["heads", ""], ...named] : [];
    told.heads = "usual / deepest / mean, dB";
    const count = named.length === 1 && named[0][0] === "gain_db" ? [["times", "times held"]] : [];
    const returns = this.views.includes("returns") ? [["returns", "back after"]] : [];
    this.facts.replaceChildren(
      ...[...ofBands, ...count, ...(gate ? GATE_FACTS : ofBands.length || !(this.views.includes("in_out") || statistics.held_pct > 0) ? [] : [...HELD_FACTS, ...(statistics.lifted_pct >= 1 && !lifts ? LIFTED_FACTS : [])]), ...inCharge, ...returns, ...LEVEL_FACTS, ...(before || after ? STRIP_FACTS : [])].map(([name, label]) => {
        const row = element("div", "did-row", { "data-fact": name });
        const [term, value] = [element("dt", ""), element("dd", "")];
        [term.textContent, value.textContent] = [lifts && name === "held" ? "lifted for" : label, told[name]];
        if (["usual", "deepest", "lifted"].includes(name)) value.classList.toggle("is-lift", told[name].includes("+"));
        row.append(term, value);
        return row;
      }),
    );
    this.onlyFader.hidden = steady == null;
    if (steady != null) this.onlyFader.textContent = `It ${steady < 0 ? "holds" : "lets"} ${figure(Math.abs(steady))} all along: it only turns the part ${steady < 0 ? "down" : "up"}; a fader would do.`;
    this.histogram = histogram;
  }

  /** The moving point: level in and level out of now, in dB, and who of several detectors is in charge. */
  point(now, inCharge) {
    if (String(now) === String(this.now) && inCharge === this.inCharge) return;
    Object.assign(this, { now, inCharge });
    this.paintCurve();
  }

  paint() {
    if (!this.answer) return;
    this.paintCurve();
    const pictures = this.burst.closest(".bench-pictures");
    const room = pictures.offsetParent ? pictures.parentElement.parentElement.getBoundingClientRect().bottom - pictures.getBoundingClientRect().top : 0;
    pictures.style.visibility = Math.min(pictures.clientHeight, room) < LEAST_PX ? "hidden" : ""; // too flat to be read: "Burst" shows it large
    if (this.answer.burst) {
      paintBurst(this.burst, this.answer.burst);
      say(this.burst, burstWords(this.answer.burst));
    }
    if (this.answer.harmonics) {
      paintHarmonics(this.harmonics, this.answer.harmonics);
      say(this.harmonics, harmonicsWords(this.answer.harmonics));
    }
    paintHistogram(this.deep, this.histogram || []);
    say(this.deep, histogramWords(this.histogram || []));
    if (this.answer.curve) say(this.curve, curveWords(this.answer.curve));
  }

  /** The points of a drawn curve, with their handles; null of one that is not drawn. */
  placePoints() {
    const { drawnSetting: setting } = this;
    const { clientWidth: width, clientHeight: height } = this.curve;
    const points = setting && width ? this.settings[setting.name] : null;
    const place = curveLayout(width, height, this.axis);
    this.drawn.show(points && {
      points, shift: () => 0, x: place.x, at: place.levelIn, y: place.y, value: place.levelOut,
      begin: setting.places[0], end: setting.places[1], low: setting.values[0], high: setting.values[1], least: setting.fewest, most: setting.most,
      step: (level, steps) => level + steps, round: (level) => Math.round(10 * level) / 10,
      says: ([into, out]) => `${spoken(into, LEVEL)} in, ${spoken(out, LEVEL)} out`,
    });
    return points;
  }

  paintCurve() {
    if (!this.answer?.curve || !this.settings) return;
    const points = this.placePoints();
    paintCurve(this.curve, {
      curve: this.answer.curve, levels: this.own ?? this.levels, now: this.now, inCharge: this.inCharge ?? 0, axis: this.axis, points,
      thresholdDb: this.lineDrives ? this.to.threshold() : this.settings[this.line] - drivenDb(this.settings), kneeDb: this.settings.knee_db ?? 0,
    });
  }
}
