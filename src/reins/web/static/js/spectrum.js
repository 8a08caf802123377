// The hand on the spectrum: pegs for frequency and gain, lines for crossovers and edges, grips for thresholds; reading
// frequency, note and level under the pointer. Paints by draw/spectrum.js.

import { element } from "./control.js";
import { layout, paintSpectrum } from "./draw/spectrum.js";
import { DrawnPoints } from "./drawnpoints.js";
import { valueAtPath } from "./paths.js";
import { pulled, pullsOf } from "./pulls.js";
import { levelAt, shapesOf } from "./shapes.js";
import { nudged, spoken } from "./values.js";

const FINE = 0.1;
const KEEP_AFTER_MS = 400;
const CLICK_PX = 4;

/** The point nearest to a frequency: its place in the row, and frequency and note in words. */
export function pointAt({ hz, notes }, at) {
  const index = hz.reduce((best, f, i) => (Math.abs(Math.log(f / at)) < Math.abs(Math.log(hz[best] / at)) ? i : best), 0);
  const f = hz[index];
  return { index, text: `${f >= 1000 ? `${(f / 1000).toFixed(2)} kHz` : `${f.toFixed(1)} Hz`} · ${notes[index]}` };
}

/** What the points of a drawn threshold lie on. */
const groundOf = ({ places: [begin, end], values: [low, high], fewest, most, of }, points, place, shift, whole) => ({
  points, shift, begin, end, low, high, least: fewest, most, x: place.x, at: place.hz,
  // A share of a gain lies on the scale of gains, a level on that of levels.
  y: of ? (pct) => place.gainY((whole * pct) / 100) : place.y, value: of ? (y) => (100 * place.gain(y)) / (whole || 1) : place.level,
  step: (hz, steps) => hz * 2 ** (steps / 24), round: (hz) => Number(hz.toPrecision(3)),
  says: ([hz, value]) => `${Math.round(hz)} Hz, ${value.toFixed(1).replace("-", "−")} ${of ? "%" : "dB"}`,
});

export class Spectrum {
  /**
   * @param {HTMLElement} root holds .spectrum-canvas and .spectrum-hand
   * @param {{hz: number[], notes: string[]}} frequencies
   * @param {{attempt: (values: object) => void, keep: (values: object) => void, add: (hz: number, gain: number) => void,
   *   select: (chosen: number[]) => void, hear: (gain: string | null) => void, read: (text: string) => void}} to
   */
  constructor(root, frequencies, to) {
    Object.assign(this, { root, to, frequencies });
    this.canvas = root.querySelector(".spectrum-canvas");
    this.hand = root.querySelector(".spectrum-hand");
    this.model = { hz: frequencies.hz, shown: {}, frequency: null, tone: null, curve: null, thresholds: [], heard: null, heardNow: null, drawn: null, leans: [], leaning: false, crossovers: [], watched: null, rubber: null };
    this.handles = new Map();
    const send = (way) => (points) => to[way]({ [this.drawnSetting.name]: points });
    this.drawn = new DrawnPoints(root, this.hand, { attempt: send("attempt"), keep: send("keep") });
    this.chosen = [];
    this.leaning = false;
    this.fields = [];
    this.hand.addEventListener("pointermove", (event) => this.read(event));
    this.hand.addEventListener("pointerleave", () => to.read(""));
    this.hand.addEventListener("pointerdown", (event) => this.rubber(event));
    this.hand.addEventListener("dblclick", (event) => this.to.add(this.place.hz(event.offsetX), this.place.gain(event.offsetY)));
    new ResizeObserver(() => this.paint()).observe(this.canvas);
  }

  get place() {
    return layout(this.canvas.clientWidth, this.canvas.clientHeight);
  }

  /** Show a processor (null: none) with its settings, those of a drag laid over them. */
  show(kind, settings) {
    Object.assign(this, { kind, settings, shapes: shapesOf(kind?.covers) });
    this.fields = kind?.settings ?? [];
    this.model.thresholds = settings ? this.shapes.thresholds(settings) : [];
    this.model.crossovers = settings ? this.shapes.lines(settings).map(({ hz }) => hz) : [];
    this.model.watched = kind?.covers === "span" && settings ? this.shapes.regions(settings)[0].span : null;
    this.model.leans = settings && this.shapes.leans ? this.shapes.leans(settings) : [];
    if (!settings) this.model.frequency = this.model.curve = null;
    this.paintSoon();
  }

  /** Show other spectra or curves. */
  draw(changes) {
    Object.assign(this.model, changes);
    this.paintSoon("heard" in changes); // thresholds lie by what is heard
  }

  choose(chosen) {
    this.chosen = chosen;
    this.paint();
  }

  /** Once for all that changes at a time: to ask how wide it is, with the desk half changed, costs a layout each time. */
  paintSoon(handles = true) {
    const paint = () => { const all = this.soon; this.soon = undefined; this.paint(all); };
    if (this.soon === undefined) queueMicrotask(paint);
    this.soon = Boolean(this.soon || handles);
  }

  paint(handles = true) {
    if (!this.canvas.clientWidth) return;
    const { drawnLine: line } = this;
    this.model.drawn = line && !this.drawnSetting.of && this.frequencies.hz.map((hz, index) => line.lies[index] + levelAt(line.points, hz));
    paintSpectrum(this.canvas, this.model);
    if (handles) this.placeHandles();
    if (handles || !this.drawn.dragged) this.placePoints();
  }

  /** The setting that is a threshold drawn across frequency, where there is one. */
  get drawnSetting() { return this.fields.find(({ kind, at }) => kind === "points" && at === "Hz"); }

  /** The points of a threshold drawn across frequency, and what it lies on, which may be a take's mean. */
  get drawnLine() {
    const lies = this.drawnSetting?.of ? this.frequencies.hz.map(() => 0) : this.model.frequency?.lies_on_db;
    return this.settings && lies && this.drawnSetting ? { points: this.value(this.drawnSetting.name), lies } : null;
  }

  placePoints() {
    const { drawnLine: line, place, frequencies } = this;
    this.drawn.show(line && groundOf(this.drawnSetting, line.points, place, (hz) => line.lies[pointAt(frequencies, hz).index], this.drawnSetting.of ? this.value(this.drawnSetting.of) : 0));
  }

  placeHandles() {
    const wanted = this.settings ? [...this.bodies(), ...this.pegs(), ...pullsOf(this), ...this.lines(), ...(this.leaning ? this.leans() : this.grips())] : [];
    for (const [name, handle] of this.handles) {
      if (!wanted.some((one) => one.key === name)) {
        handle.remove();
        this.handles.delete(name);
      }
    }
    for (const { key, className, x, y, text, said, press, keys, wheel, marks, width } of wanted) {
      let handle = this.handles.get(key);
      if (!handle) {
        handle = element("button", "", { type: "button", "data-handle": key });
        handle.addEventListener("pointerdown", (event) => event.button === 0 && this.grab(event, handle));
        handle.addEventListener("keydown", (event) => this.key(event, handle));
        handle.addEventListener("wheel", (event) => { event.preventDefault(); handle.turn?.(event.deltaY < 0 ? 1 : -1, event.shiftKey); }, { passive: false });
        handle.addEventListener("dblclick", (event) => event.stopPropagation());
        this.handles.set(key, handle);
        this.root.append(handle);
      }
      handle.className = `handle ${className} ${marks ?? ""}`;
      handle.style.left = `${x}px`;
      handle.style.width = width ? `${width}px` : "";
      handle.style.top = `${y}px`;
      if (handle.textContent !== text) handle.textContent = text;
      handle.setAttribute("aria-label", said);
      Object.assign(handle, { press, keys, turn: wheel });
    }
  }

  field(name) {
    const [list, , last] = name.split(".");
    const fields = this.fields.find((f) => f.name === list)?.fields;
    const own = this.fields.find((f) => f.name === name);
    return own ?? fields?.find((f) => f.name === last) ?? this.fields.find((f) => f.name === list);
  }

  value(name) {
    return valueAtPath(this.settings, name);
  }

  /** A value moved by some steps, kept once the hand rests. */
  nudge(names, steps, fine) {
    const values = Object.fromEntries(names.map((name) => [name, nudged(this.value(name), steps, fine, this.field(name))]));
    this.to.attempt(values);
    this.resting = { ...this.resting, ...values };
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => {
      this.to.keep(this.resting);
      this.resting = {};
    }, KEEP_AFTER_MS);
  }

  pegs() {
    const { place } = this;
    return this.shapes.pegs(this.settings).map(({ name, label, hz, gain, band }, index) => {
      const names = (setting) => this.together(index).map((other) => `bands.${other}.${setting}`);
      const texts = ["freq_hz", "gain_db", "q"].map((setting) => spoken(band[setting], this.field(`${name}.${setting}`)));
      return {
        key: name, className: "peg", text: label, x: place.x(hz), y: place.gainY(gain),
        said: `Band ${label}, ${texts[0]}, ${texts[1]}, Q ${texts[2]}`,
        marks: `${this.chosen.includes(index) ? "is-chosen" : ""} ${band.on ? "" : "is-off"} ${band.motion === "none" ? "" : "is-moving"}`,
        press: (event) => this.dragPeg(event, index),
        wheel: (direction, fine) => this.nudge(names("q"), direction, fine),
        keys: {
          ArrowLeft: (fine) => this.nudge(names("freq_hz"), -1, fine), ArrowRight: (fine) => this.nudge(names("freq_hz"), 1, fine),
          ArrowDown: (fine) => this.nudge(names("gain_db"), -5, fine), ArrowUp: (fine) => this.nudge(names("gain_db"), 5, fine),
          PageDown: (fine) => this.nudge(names("q"), -1, fine), PageUp: (fine) => this.nudge(names("q"), 1, fine),
        },
      };
    });
  }

  /** A band between two edges as a whole, which is heard while it moves. */
  bodies() {
    const { place } = this;
    return (this.shapes.bodies?.(this.settings) ?? []).map(({ names, gain, label, low, high }) => {
      const [left, right] = [place.x(low), place.x(high)];
      return {
        key: `body ${gain}`, className: "span-body", text: "", x: (left + right) / 2, y: place.top + 7, width: Math.max(right - left - 4, 16), said: `${label}, as a whole, from ${spoken(low, this.field(names[0]))} to ${spoken(high, this.field(names[1]))}`,
        press: (event) => {
          const least = this.field(names[0]).low / low;
          const most = this.field(names[1]).high / high;
          this.to.hear(gain);
          event.currentTarget.addEventListener("lostpointercapture", () => this.to.hear(null), { once: true });
          this.drag(event, (dx) => {
            const by = Math.min(most, Math.max(least, place.hz(left + dx) / low));
            return Object.fromEntries([[names[0], low], [names[1], high]].map(([name, hz]) => [name, Number((hz * by).toPrecision(4))]));
          });
        },
        keys: { ArrowLeft: (fine) => this.nudge(names, -1, fine), ArrowRight: (fine) => this.nudge(names, 1, fine) },
      };
    });
  }

  /** Limits of a setting, narrowed by its neighbours. */
  within(setting, low, high) {
    const field = this.field(setting);
    return { low: Math.max(field.low, low ?? field.low), high: Math.min(field.high, high ?? field.high) };
  }

  lines() {
    const { place } = this;
    return this.shapes.lines(this.settings).map(({ setting, label, hz, ...near }) => ({
      key: setting, className: "edge", text: "", x: place.x(hz), y: (place.top + place.bottom) / 2,
      said: `${label}, ${spoken(hz, this.field(setting))}`,
      press: (event) => {
        const { low, high } = this.within(setting, near.low, near.high);
        this.drag(event, (dx) => ({ [setting]: Number(Math.min(high, Math.max(low, place.hz(place.x(hz) + dx))).toPrecision(3)) }));
      },
      wheel: (direction, fine) => this.nudge([setting], direction, fine),
      keys: { ArrowLeft: (fine) => this.nudge([setting], -1, fine), ArrowRight: (fine) => this.nudge([setting], 1, fine) },
    }));
  }

  /** Show the line that leans over the bands in place of their thresholds, or those again. @param {boolean} leaning */
  lean(leaning) {
    this.leaning = leaning;
    this.model.leaning = leaning;
    this.paintSoon();
  }

  leans() {
    const { place } = this;
    return (this.shapes.leans?.(this.settings) ?? []).map(({ setting, hz, label, db }) => {
      const { low, high } = this.field(setting);
      return {
        key: setting, className: "lean-grip", text: label, x: place.x(hz), y: place.gainY(db), said: `Lean of the ${label}, ${spoken(db, this.field(setting))}`,
        press: (event) => this.drag(event, (_, dy) => ({ [setting]: Math.min(high, Math.max(low, Math.round(2 * (db + place.gain(dy) - place.gain(0))) / 2)) })),
        wheel: (direction, fine) => this.nudge([setting], direction, fine),
        keys: { ArrowDown: (fine) => this.nudge([setting], -1, fine), ArrowUp: (fine) => this.nudge([setting], 1, fine) },
      };
    });
  }

  grips() {
    const { place } = this;
    const seen = new Set();
    return this.model.thresholds.filter(({ setting }) => !seen.has(setting) && seen.add(setting)).map(({ setting, gain, label, from, to, db, by = 0 }) => {
      const { low, high } = this.field(setting);
      const y = place.y(db - (this.model.heard?.[gain]?.above_spectrum_db ?? 0));
      return {
        key: setting, className: "grip", text: "", x: Math.min(place.x(from) + 12, (place.x(from) + place.x(to)) / 2), y,
        said: `Threshold of ${label}, ${spoken(db, this.field(setting))}`,
        press: (event) => this.drag(event, (_, dy) => ({ [setting]: Math.min(high, Math.max(low, Math.round(2 * (db + place.level(dy) - place.level(0) + by)) / 2)) })),
        wheel: (direction, fine) => this.nudge([setting], direction, fine),
        keys: { ArrowDown: (fine) => this.nudge([setting], -1, fine), ArrowUp: (fine) => this.nudge([setting], 1, fine) },
      };
    });
  }

  /** The bands that move with this one. */
  together(index) {
    return this.chosen.includes(index) ? this.chosen : [index];
  }

  grab(event, handle) {
    event.preventDefault();
    event.stopPropagation();
    handle.focus();
    handle.setPointerCapture(event.pointerId);
    handle.press(event);
  }

  key(event, handle) {
    const act = handle.keys?.[event.key];
    if (!act || event.altKey) return;
    event.preventDefault();
    event.stopPropagation();
    act(event.shiftKey);
  }

  /** Follow the pointer: values(dx, dy, event) says what is tried; it is kept when the hand lets go. */
  drag(event, values) {
    const target = event.currentTarget;
    let [x, y, dx, dy] = [event.clientX, event.clientY, 0, 0];
    let last = null;
    const move = (moved) => {
      const scale = moved.shiftKey ? FINE : 1;
      dx += (moved.clientX - x) * scale;
      dy += (moved.clientY - y) * scale;
      [x, y] = [moved.clientX, moved.clientY];
      last = values(dx, dy, moved);
      this.to.attempt(last);
    };
    const stop = () => {
      target.removeEventListener("pointermove", move);
      if (last) this.to.keep(last);
    };
    target.addEventListener("pointermove", move);
    target.addEventListener("pointerup", stop, { once: true });
    target.addEventListener("pointercancel", stop, { once: true });
  }

  /** Frequency and gain; with Alt the reach. Chosen bands go together. */
  dragPeg(event, index) {
    if (!this.chosen.includes(index)) this.to.select([index]);
    const { place, settings } = this;
    const begun = this.together(index).map((other) => [other, settings.bands[other]]);
    const limited = (name, value) => {
      const { low, high } = this.field(`bands.0.${name}`);
      return Math.min(high, Math.max(low, value));
    };
    const values = (dx, dy, moved) => Object.fromEntries(
      begun.flatMap(([other, band]) => {
        if (moved.altKey) return pulled(this.field("bands.0.range_db"), other, band, place.gain(dy) - place.gain(0));
        const hz = limited("freq_hz", Number(place.hz(place.x(band.freq_hz) + dx).toPrecision(4)));
        const gain = limited("gain_db", Math.round(10 * (band.gain_db + place.gain(dy) - place.gain(0))) / 10);
        return [[`bands.${other}.freq_hz`, hz], [`bands.${other}.gain_db`, gain]];
      }),
    );
    this.drag(event, values);
  }

  /** Drawn on the empty picture, a rubber band chooses the pegs within. */
  rubber(event) {
    if (event.button !== 0 || !this.settings?.bands || !this.shapes.pegs(this.settings).length) return;
    this.hand.setPointerCapture(event.pointerId);
    const [x0, y0] = [event.offsetX, event.offsetY];
    const move = (moved) => this.draw({ rubber: [x0, y0, moved.offsetX - x0, moved.offsetY - y0] });
    const stop = (moved) => {
      this.hand.removeEventListener("pointermove", move);
      this.draw({ rubber: null });
      const [left, right] = [x0, moved.offsetX].sort((a, b) => a - b);
      const [top, bottom] = [y0, moved.offsetY].sort((a, b) => a - b);
      if (right - left < CLICK_PX && bottom - top < CLICK_PX) return this.to.select([]);
      const inside = ({ hz, gain }) => this.place.x(hz) >= left && this.place.x(hz) <= right && this.place.gainY(gain) >= top && this.place.gainY(gain) <= bottom;
      this.to.select(this.shapes.pegs(this.settings).flatMap((peg, index) => (inside(peg) ? [index] : [])));
    };
    this.hand.addEventListener("pointermove", move);
    this.hand.addEventListener("pointerup", stop, { once: true });
  }

  /** Frequency, note and level under the pointer. */
  read(event) {
    const { index, text } = pointAt(this.frequencies, this.place.hz(event.offsetX));
    const levels = Object.entries(this.model.shown).map(([name, row]) => `${name} ${row[index].toFixed(0).replace("-", "−")} dB`);
    this.to.read([text, ...levels].join(" · "));
  }
}
