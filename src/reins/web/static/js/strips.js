// The strips at the left: tracks, buses and the master, each with name, fader, mute, solo and a moving meter. The
// chosen one shows pan, trim, polarity and where it goes as well.

import { element } from "./control.js";
import { makeControl } from "./makecontrol.js";
import { paintReins } from "./draw/reins.js";
import { putStyle, putText } from "./put.js";
import { rove } from "./roving.js";
import { SendRows } from "./sends.js";
import { keysOf, keysOfReins } from "./shapes.js";

const FLOOR_DB = -60;
const MORE = ["pan_pct", "trim_db", "inverted", "solo_safe", "chain_mix_pct", "puts_out", "colour"];
const OWN = "button:not(.strip-name, .control-rein, .strip-clip), select, [role=slider]"; // what the arrows go through within a strip
const SCALE_DB = [-48, -36, -24, -12, -6];

export class StripList {
  /**
   * @param {{track: object[], bus: object[], master: object[], send: object[], deeper: object}} settings descriptions by kind of strip
   * @param {{rein: (id: string, name: string) => void, attempt: Function, keep: Function, move: (id: string, index: number) => void, select: (id: string) => void,
   *   attemptSend: Function, keepSend: Function, removeSend: Function, route: (id: string, bus: string) => void, tie: (from: string, to: string) => void, tempo: () => number,
   *   attemptDeeper: (id: string, by: number) => void, keepDeeper: (id: string, by: number) => Promise<any>, choose: (id: string, all: boolean) => void}} to
   */
  constructor(settings, to) {
    Object.assign(this, { settings, to });
    this.rows = new Map();
  }

  /** Show a document's strips, tracks, buses and master each in its own place. */
  show(places, document, selected) {
    this.document = document;
    this.selected = selected;
    this.keepNames ??= rove(places.track.closest(".side"), { selector: ".strip-name", went: (name) => this.to.select(name.closest(".strip").dataset.strip) });
    const wanted = { track: document.order, bus: document.bus_order, master: ["master"] };
    for (const id of [...this.rows.keys()].filter((known) => !Object.values(wanted).flat().includes(known))) {
      this.rows.get(id).root.remove();
      this.rows.delete(id);
    }
    for (const [kind, ids] of Object.entries(wanted)) {
      for (const [place, id] of ids.entries()) {
        if (!this.rows.has(id)) this.rows.set(id, this.build(id, kind));
        const row = this.rows.get(id);
        // Moving a row that is in place would take the focus from a number being typed in it.
        if (places[kind].children[place] !== row.root) places[kind].insertBefore(row.root, places[kind].children[place] ?? null);
        this.fill(row, document.tracks[id] ?? document.buses[id] ?? document.master, id, id === selected);
      }
    }
    this.keepNames();
    const tied = [...this.rows].flatMap(([id, to]) => this.keysOf(id).map((key) => ({ from: this.rows.get(key)?.root, to: to.root })));
    queueMicrotask(() => paintReins(places.reins, tied.filter(({ from }) => from))); // where rows lie is asked when all is changed
  }

  /** Ids of the strips whose sound the chain of a strip follows. */
  keysOf(id) {
    const strip = this.document.tracks[id] ?? this.document.buses[id] ?? this.document.master;
    const names = [...strip.chain.filter(({ on }) => on).flatMap(({ settings }) => keysOf(settings)), ...keysOfReins(strip.reins)];
    return [...new Set(names.map((source) => source.split("/")[0]))];
  }

  build(id, kind) {
    const root = element("div", `strip strip-${kind}`, { "data-strip": id, role: "group" });
    const name = element("button", "strip-name", { type: "button" });
    const goes = element("span", "strip-goes");
    const meter = element("div", "strip-meter", { "aria-hidden": "true" });
    const [peak, rms, hold] = ["peak", "rms", "hold"].map((what) => element("span", `strip-meter-${what}`));
    meter.append(peak, rms, hold, ...SCALE_DB.map((db) => tick(db)));
    const clip = this.clipMark(id);
    const known = new Map(this.settings[kind].map((setting) => [setting.name, setting]));
    const controls = ["fader_db", ...MORE].filter((what) => known.has(what)).map((what) => [what, this.control(id, known.get(what))]);
    const switches = ["mute", "solo"].filter((what) => known.has(what)).map((what) => [what, this.switch(id, known.get(what))]);
    const fader = controls[0][1];
    fader.number.before(fader.label.querySelector(".control-rein")); // the label of the fader is not shown
    const head = element("div", "strip-head");
    const reins = element("span", "strip-reins");
    head.append(name, goes, reins, clip, ...switches.map(([, button]) => button));
    if (kind !== "master") head.append(this.grip(id));
    this.makeTieable(id, root);
    const more = element("div", "strip-more");
    const deeper = this.deeper(id);
    const alike = element("p", "strip-alike", { "data-help": "L with R, after fader and pan. 1: both sides alike; 0: unrelated; below: they cancel in mono." });
    more.append(...controls.slice(1).map(([, control]) => control.root), deeper.root, alike);
    const row = { root, name, goes, reins, peak, rms, hold, controls, switches, clip, deeper, alike, highest: 0 };
    if (kind !== "master") {
      row.sends = new SendRows(id, this.settings.send.find((setting) => setting.name === "level_db"), this.to);
      more.append(this.way(id, row), row.sends.root);
    }
    if (kind === "track") this.makeMovable(id, row);
    root.append(head, meter, controls[0][1].root, more);
    row.keepStop = rove(root, { selector: OWN });
    root.addEventListener("click", (event) => {
      const several = (event.ctrlKey || event.metaKey || event.shiftKey) && event.target.closest(".strip-head"); // a fine drag of a fader ends with a click, too
      if (several) this.to.choose(id, event.shiftKey);
      else this.to.select(id);
    });
    return row;
  }

  /** How far it was over full scale; stays until it is clicked, with Shift those of all strips go. */
  clipMark(id) {
    const mark = element("button", "strip-clip", { type: "button", hidden: "", "data-help": "It was louder than full scale, by so much at most. A click forgets it; with Shift, those of all strips." });
    mark.addEventListener("click", (event) => {
      event.stopPropagation();
      for (const [other, row] of this.rows) {
        if (other !== id && !event.shiftKey) continue;
        row.highest = 0;
        row.clip.hidden = true;
      }
    });
    return mark;
  }

  /** All thresholds of its chain together: from where they are, so it rests at 0. */
  deeper(id) {
    const control = makeControl(this.settings.deeper, {
      attempt: (by) => this.to.attemptDeeper(id, by),
      keep: (by) => this.to.keepDeeper(id, by).then(() => control.set(0)),
      tempo: this.to.tempo,
    });
    return control;
  }

  /** Show only strips whose name holds these letters, and always the master. */
  filter(letters) {
    const wanted = letters.trim().toLowerCase();
    for (const [id, row] of this.rows) row.root.hidden = Boolean(wanted) && id !== "master" && !row.name.textContent.toLowerCase().includes(wanted);
  }

  /** Show which strips are chosen together. */
  markChosen(ids) {
    for (const [id, row] of this.rows) row.root.classList.toggle("is-chosen", ids.includes(id));
  }
  /** Show values that a strip is given while another is moved with it. */
  showValues(id, values) {
    for (const [name, control] of this.rows.get(id)?.controls ?? []) if (name in values) control.set(values[name]);
  }

  control(id, setting) {
    return makeControl(setting, {
      attempt: (value) => this.to.attempt(id, { [setting.name]: value }),
      keep: (value) => this.to.keep(id, { [setting.name]: value }),
      tempo: this.to.tempo,
      rein: (name) => this.to.rein(id, name),
    });
  }

  /** Show from where to where reins take fader and pan of a strip; of all others that none is shown. */
  markMoved(id, spans) {
    for (const [strip, row] of this.rows) for (const [name, control] of row.controls) control.markMoved?.(strip === id ? spans[name] : undefined);
  }
  /** Where a setting of a strip stands now, as reins move it. */
  ghost(id, name, value) {
    this.rows.get(id)?.controls.find(([known]) => known === name)?.[1].ghostAt?.(value);
  }

  switch(id, { name, label, help }) {
    const button = element("button", `strip-${name}`, { type: "button", "data-help": help });
    button.textContent = label[0];
    button.addEventListener("click", (event) => {
      event.stopPropagation();
      this.to.keep(id, { [name]: button.getAttribute("aria-pressed") !== "true" });
    });
    return button;
  }

  /** The end of a rein: dragged to another strip, it becomes the key of what holds that one. */
  grip(id) {
    const grip = element("button", "strip-grip", { type: "button", "aria-label": "Tie this to another strip by dragging", "data-help": "Drag this to another strip, which then follows this one as its key; or choose it there under Key." });
    grip.draggable = true;
    grip.addEventListener("dragstart", (event) => {
      event.stopPropagation();
      this.tying = id;
    });
    grip.addEventListener("dragend", () => { this.tying = null; });
    return grip;
  }

  makeTieable(id, root) {
    root.addEventListener("dragover", (event) => {
      if (!this.tying || this.tying === id) return;
      event.preventDefault();
      root.classList.add("is-tied-to");
    });
    root.addEventListener("dragleave", () => root.classList.remove("is-tied-to"));
    root.addEventListener("drop", (event) => {
      root.classList.remove("is-tied-to");
      if (!this.tying || this.tying === id) return;
      event.preventDefault();
      event.stopPropagation();
      this.to.tie(this.tying, id);
      this.tying = null;
    });
  }

  /** Where it goes: the master or a bus. */
  way(id, row) {
    const label = element("label", "strip-way");
    row.way = element("select", "", { "data-do": "route" });
    row.way.addEventListener("change", () => {
      this.to.route(id, row.way.value);
      row.way.blur(); // so that the keys work again
    });
    row.way.addEventListener("click", (event) => event.stopPropagation());
    label.append("Goes to ", row.way);
    return label;
  }

  /** Tracks are moved by dragging their names, or with Alt and the arrows. */
  makeMovable(id, { root, name }) {
    name.draggable = true;
    name.addEventListener("dragstart", () => { this.dragged = id; });
    name.addEventListener("keydown", (event) => {
      const by = { ArrowUp: -1, ArrowDown: 1 }[event.key];
      if (!event.altKey || !by) return;
      event.preventDefault();
      this.to.move(id, Math.max(0, this.document.order.indexOf(id) + by));
    });
    root.addEventListener("dragover", (event) => {
      if (!this.dragged) return;
      event.preventDefault();
      root.classList.add("is-target");
    });
    root.addEventListener("dragleave", () => root.classList.remove("is-target"));
    root.addEventListener("drop", (event) => {
      root.classList.remove("is-target");
      if (!this.dragged) return;
      event.stopPropagation();
      event.preventDefault();
      this.to.move(this.dragged, this.document.order.indexOf(id));
      this.dragged = null;
    });
  }

  fill(row, strip, id, selected) {
    row.name.textContent = strip.name;
    const names = this.keysOf(id).map((key) => (this.document.tracks[key] ?? this.document.buses[key])?.name).filter(Boolean);
    row.reins.textContent = names.length ? `⇠ ${names.join(", ")}` : "";
    const sent = (strip.sends ?? []).filter(({ on }) => on).map(({ bus }) => `+ ${this.document.buses[bus].name}`);
    row.goes.textContent = [strip.bus ? `→ ${this.document.buses[strip.bus].name}` : "", ...sent].join(" ").trim();
    row.root.setAttribute("aria-label", strip.name);
    const chosen = selected && !row.root.classList.contains("is-selected");
    row.root.classList.toggle("is-selected", selected);
    if (chosen) row.root.scrollIntoView({ block: "nearest" });
    row.name.setAttribute("aria-pressed", String(selected));
    row.root.dataset.colour = strip.colour;
    row.deeper.root.hidden = !strip.chain.length;
    row.clip.setAttribute("aria-label", `${strip.name} was over full scale; forget it`);
    for (const [name, control] of [...row.controls, ["deeper", row.deeper]]) {
      if (name !== "deeper") control.set(strip[name]);
      control.nameFor(strip.name);
    }
    for (const [name, button] of row.switches) {
      button.setAttribute("aria-pressed", String(strip[name]));
      button.setAttribute("aria-label", `${name} ${strip.name}`);
    }
    if (row.way) this.fillWays(row, strip, id);
    // Of the strips that are not worked on, the name alone is a stop, and of all names one.
    if (selected) row.keepStop();
    else for (const one of row.root.querySelectorAll(OWN)) one.tabIndex = -1;
  }

  fillWays(row, strip, id) {
    row.sends.fill(this.document, strip);
    const goals = [["", "Master"], ...this.document.bus_order.filter((bus) => bus !== id).map((bus) => [bus, this.document.buses[bus].name])];
    row.way.replaceChildren(...goals.map(([value, word]) => new Option(word, value, false, value === strip.bus)));
    row.way.setAttribute("aria-label", `${strip.name} goes to`);
  }

  /** Move the meters: peak, RMS and peak hold in dB by strip. */
  meter(meters, selected) {
    for (const [id, row] of this.rows) {
      const [peak, rms, hold] = meters?.strips[id] ?? [-120, -120, -120];
      // Only what the compositor can move by itself: thirty of these many times a second must not cost a layout.
      putStyle(row.peak, "transform", `scaleX(${share(peak).toFixed(2)})`);
      putStyle(row.rms, "transform", `scaleX(${share(rms).toFixed(2)})`);
      putStyle(row.hold, "transform", share(hold) ? `translateX(${(100 * share(hold)).toFixed(0)}%)` : "translateX(-3px)");
      const over = hold > 0;
      if (over !== row.over) row.root.classList.toggle("is-over", over);
      row.over = over;
      if (hold > row.highest + 0.05) {
        row.highest = hold;
        row.clip.hidden = false;
        putText(row.clip, `+${hold.toFixed(1)}`);
      }
      if (id === selected) putText(row.alike, `L with R ${meters?.correlation == null ? "–" : meters.correlation.toFixed(2).replace("-", "−")}`);
    }
  }
}

/** A line of the meter's scale. */
function tick(db) {
  const line = element("span", "strip-meter-tick");
  line.style.left = `${100 * share(db)}%`;
  return line;
}

const share = (level) => Math.min(1, Math.max(0, 1 - level / FLOOR_DB));
