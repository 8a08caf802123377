// The control: a label, a number and a bead on a line drawn thick from the default to the value.

import { allowed, nudged, parsed, placed, spoken, valueAt, written } from "./values.js";

const KEEP_AFTER_MS = 400; // steps by wheel and arrow keys within this time become one step of the history

/** @param {string} tag @param {string} className @param {object} [attributes] */
export function element(tag, className, attributes = {}) {
  const made = document.createElement(tag);
  made.className = className;
  for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
  return made;
}

/**
 * @param {import("./values.js").Setting} setting
 * @param {{attempt: (value: number) => void, keep: (value: number) => void, tempo: () => number, byFigure?: boolean}} to
 *   attempt is called while the value moves, keep when it stays; byFigure: the line is not shown
 */
export class NumberControl {
  constructor(setting, to) {
    Object.assign(this, { setting, to, value: setting.default, kept: setting.default });
    this.root = element("div", "control", { "data-setting": setting.name, "data-help": setting.help });
    this.label = element("span", "control-label");
    this.label.textContent = setting.label;
    // Where the line is shown, it is the one to be reached: Enter on it types. A figure that stands alone is a button.
    this.number = to.byFigure ? element("button", "control-number", { type: "button", "aria-label": setting.label }) : element("span", "control-number");
    this.figure = element("span", "control-figure");
    this.unit = element("span", "control-unit");
    this.number.append(this.figure, this.unit);
    this.line = element("div", "control-line", {
      role: "slider", tabindex: "0", "aria-label": setting.label, "aria-description": setting.help,
      "aria-valuemin": setting.low, "aria-valuemax": setting.high,
    });
    this.reach = element("span", "control-reach");
    this.tick = element("span", "control-tick");
    this.bead = element("span", "control-bead");
    this.span = element("span", "control-span");
    this.ghost = element("span", "control-ghost");
    this.span.hidden = this.ghost.hidden = true;
    this.line.append(element("span", "control-rail"), this.span, this.reach, this.tick, this.ghost, this.bead);
    this.root.append(this.label, this.number, ...(to.byFigure ? [] : [this.line]));
    if (to.rein && setting.moves) this.label.append(this.reinButton());
    this.tick.style.left = `${100 * placed(setting.default, setting)}%`;
    this.listen();
    this.show();
  }

  /** Whose it is, for those who hear the page: "Kick Fader". */
  nameFor(owner) {
    if (owner === this.owner) return;
    this.owner = owner;
    this.line.setAttribute("aria-label", `${owner} ${this.setting.label}`);
    if (this.to.byFigure) this.number.setAttribute("aria-label", `${owner} ${this.setting.label}`);
  }

  /** The way from a setting to its rein, or to a new one. */
  reinButton() {
    const button = element("button", "control-rein", { type: "button", tabindex: "-1", "aria-label": `Move ${this.setting.label}`, "data-help": "Moves this by the beat, by a key or by hand; where it is moved, shows what moves it.", "data-rein-of": this.setting.name });
    button.innerHTML = '<svg viewBox="0 0 16 10" width="16" height="10" aria-hidden="true"><path d="M1 7c3 0 3-5 6-5s2 6 5 6c2 0 2-2 3-3"/></svg>';
    button.addEventListener("click", () => this.to.rein(this.setting.name));
    return button;
  }

  /** Show from where to where reins take it, or that none does. @param {[number, number] | undefined} values */
  markMoved(values) {
    this.moved = values;
    this.span.hidden = !values;
    if (!values) this.ghost.hidden = true;
    this.root.classList.toggle("is-moved", Boolean(values));
    if (values) this.showSpan();
  }
  showSpan() {
    const places = [this.value, ...this.moved].map((value) => placed(value, this.setting));
    const [low, high] = [Math.min(...places), Math.max(...places)];
    this.span.style.left = `${100 * low}%`;
    this.span.style.width = `${100 * (high - low)}%`;
  }
  /** Where it stands now, as reins move it. */
  ghostAt(value) {
    this.ghost.hidden = false;
    const place = `${(100 * placed(value, this.setting)).toFixed(1)}%`;
    if (this.ghost.style.left !== place) this.ghost.style.left = place;
  }

  listen() {
    this.line.addEventListener("pointerdown", (event) => this.grab(event));
    this.line.addEventListener("wheel", (event) => this.wheel(event), { passive: false });
    this.line.addEventListener("keydown", (event) => this.key(event));
    this.root.addEventListener("dblclick", (event) => event.target.closest(".control-line, .control-label") && this.reset());
    this.number.addEventListener("click", () => this.type());
  }

  /** Show a value that came from outside; a hand on the bead wins. */
  set(value) {
    if (this.inHand || this.waiting) return;
    this.value = this.kept = value;
    this.show();
  }

  show() {
    const [figure, unit] = written(this.value, this.setting);
    this.figure.textContent = figure;
    this.unit.textContent = unit;
    const at = placed(this.value, this.setting);
    const rest = placed(this.setting.default, this.setting);
    this.bead.style.left = `${100 * at}%`;
    this.reach.style.left = `${100 * Math.min(at, rest)}%`;
    this.reach.style.width = `${100 * Math.abs(at - rest)}%`;
    if (this.moved) this.showSpan();
    this.line.setAttribute("aria-valuenow", this.value);
    this.line.setAttribute("aria-valuetext", spoken(this.value, this.setting));
  }

  move(value) {
    if (value === this.value) return;
    this.value = value;
    this.show();
    this.to.attempt(value);
  }

  settle() {
    clearTimeout(this.waiting);
    this.waiting = null;
    if (this.value === this.kept) return;
    this.kept = this.value;
    this.to.keep(this.value);
  }

  settleSoon() {
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => this.settle(), KEEP_AFTER_MS);
  }

  grab(event) {
    if (event.button !== 0) return;
    event.preventDefault();
    this.line.focus();
    this.line.setPointerCapture(event.pointerId);
    this.inHand = true;
    this.to.hold?.(true);
    const width = this.line.clientWidth;
    let place = placed(this.value, this.setting);
    let x = event.clientX;
    const onMove = (moved) => {
      place += ((moved.clientX - x) / width) * (moved.shiftKey ? 0.1 : 1);
      x = moved.clientX;
      this.move(valueAt(place, this.setting));
    };
    const onEnd = () => {
      this.line.removeEventListener("pointermove", onMove);
      this.inHand = false;
      this.to.hold?.(false);
      this.settle();
    };
    this.line.addEventListener("pointermove", onMove);
    this.line.addEventListener("pointerup", onEnd, { once: true });
    this.line.addEventListener("pointercancel", onEnd, { once: true });
  }

  wheel(event) {
    event.preventDefault();
    this.nudge(event.deltaY < 0 || event.deltaX > 0 ? 1 : -1, event.shiftKey);
  }

  /** Some steps up or down; kept once the hand rests. */
  nudge(steps, fine) {
    this.move(nudged(this.value, steps, fine, this.setting));
    this.settleSoon();
  }

  key(event) {
    const direction = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1, PageUp: 10, PageDown: -10 }[event.key];
    if (event.key === "Home") this.reset();
    else if (event.key === "Enter") this.type();
    else if (event.key === "m" && this.to.rein && this.setting.moves) this.to.rein(this.setting.name);
    else if (direction) this.nudge(direction, event.shiftKey);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  reset() {
    this.move(this.setting.default);
    this.settle();
  }

  type() {
    const entry = element("input", "control-entry", { type: "text", "aria-label": `${this.setting.label}, ${allowed(this.setting)}` });
    entry.value = spoken(this.value, this.setting);
    this.number.hidden = true;
    this.number.after(entry);
    entry.focus();
    entry.select();
    const leave = () => {
      entry.remove();
      this.error?.remove();
      this.error = null;
      this.number.hidden = false;
    };
    entry.addEventListener("blur", leave);
    entry.addEventListener("keydown", (event) => {
      event.stopPropagation();
      if (event.key === "Enter") event.preventDefault(); // else it would press the figure, which has the focus next
      if (event.key === "Enter") this.enter(entry);
      if (event.key === "Escape") this.leave(entry);
    });
  }

  /** The entry goes when it loses the focus; the line takes it, where it is shown. */
  leave(entry) {
    if (!this.to.byFigure) this.line.focus();
    entry.blur();
    if (this.to.byFigure) this.number.focus();
  }

  enter(entry) {
    try {
      this.move(parsed(entry.value, this.setting, this.to.tempo()));
      this.settle();
      this.leave(entry);
    } catch (problem) {
      this.error ??= element("span", "control-error", { role: "alert" });
      this.error.textContent = `${problem.message}. Still ${spoken(this.value, this.setting)}.`;
      this.root.append(this.error);
    }
  }
}

/** A setting with a few named values, or on/off. */
export class ChoiceControl {
  constructor(setting, to) {
    Object.assign(this, { setting, to });
    this.root = element("div", "control", { "data-setting": setting.name, "data-help": setting.help });
    const label = element("span", "control-label");
    label.textContent = setting.label;
    const group = element("div", "control-choice", { role: "radiogroup", "aria-label": setting.label, "aria-description": setting.help });
    const options = typeof setting.default === "boolean" ? [false, true] : setting.options;
    this.group = group;
    this.buttons = options.map((option) => {
      const button = element("button", "control-option", { type: "button", role: "radio", "data-value": String(option) });
      button.textContent = setting.words[option] ?? (option === true ? "on" : option === false ? "off" : option);
      button.addEventListener("click", () => this.choose(option));
      return [option, button];
    });
    group.append(...this.buttons.map(([, button]) => button));
    group.addEventListener("keydown", (event) => this.key(event));
    this.root.append(label, group);
    this.set(setting.default);
  }

  /** Left and right choose the one beside it. */
  key(event) {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (!by) return;
    event.preventDefault();
    event.stopPropagation();
    const at = this.buttons.findIndex(([option]) => option === this.value);
    const [option, button] = this.buttons[(at + by + this.buttons.length) % this.buttons.length];
    this.choose(option);
    button.focus();
  }

  set(value) {
    this.value = value;
    for (const [option, button] of this.buttons) {
      button.setAttribute("aria-checked", String(option === value));
      button.tabIndex = option === value ? 0 : -1;
    }
  }

  nameFor(owner) { this.group.setAttribute("aria-label", `${owner} ${this.setting.label}`); }

  choose(option) {
    if (option === this.value) return;
    this.set(option);
    this.to.attempt(option);
    this.to.keep(option);
  }
}
