// The hand on the take: threshold, zoom, scroll, loop and playhead. Paints by draw/take.js.

import { paintMap } from "./draw/map.js";
import { rove } from "./roving.js";
import { element } from "./control.js";
import { barFrames, frameAt, layout, linePlace, paintTake, placeOf } from "./draw/take.js";
import { deeper, magnified, readLevels, shifted, USUAL } from "./levels.js";
import { putStyle } from "./put.js";

const SHORTEST_FRAMES = 2048;
const CLICK_PX = 4;
const MOST_MARKS = 600; // drawn at once

export class TakeView {
  /**
   * @param {HTMLElement} root holds .take-canvas, .take-hand, .playhead, .threshold-line and .threshold-handle
   * @param {{view: () => void, placeLine: () => void, why: (frame: number) => void, takeMark: (at: number) => void, addMark: (at: number) => void, loopPlace: (id: string) => void, movePlace: (id: string, frame: number) => void,
   *   removePlace: (id: string) => void, listPlaces: () => void, seek: (frame: number) => void, loop: (loop: object) => void, place: () => number,
   *   scale: (levels: object) => void, levels: object, threshold: (db: number) => void, keepThreshold: () => void, nudge: (direction: number, fine: boolean) => void}} to
   */
  constructor(root, to) {
    this.to = to;
    this.canvas = root.querySelector(".take-canvas");
    this.over = root.querySelector(".take-hand");
    this.head = root.querySelector(".playhead");
    this.handle = root.querySelector(".threshold-handle");
    this.line = root.querySelector(".threshold-line");
    this.markRow = root.querySelector(".found-row");
    this.markRow.addEventListener("dblclick", (event) => {
      if (event.target === this.markRow) this.to.addMark(Math.max(0, this.model.start + (event.offsetX / this.markRow.clientWidth) * this.model.frames) / this.model.sampleRate);
    });
    this.placeRow = root.querySelector(".place-row");
    this.lineHand = root.querySelector(".line-hand");
    this.levels = ["floor", "ceiling"].map((name) => [name, root.querySelector(`.rein-${name}`)]);
    this.model = {
      start: 0, frames: 1, end: 1, sampleRate: 48000, tempoBpm: 120, beatsPerBar: 4,
      loop: { on: false, start_frame: 0, end_frame: 0 }, picture: null, rough: null, thresholdDb: null, closingDb: null, line: null, map: null, drawn: null, follow: null, marks: null, places: [], levels: readLevels(to.levels),
    };
    this.over.addEventListener("wheel", (event) => this.wheel(event), { passive: false });
    this.over.addEventListener("pointerdown", (event) => this.press(event));
    this.over.addEventListener("keydown", (event) => this.walk(event));
    this.handle.addEventListener("pointerdown", (event) => this.dragThreshold(event));
    this.handle.addEventListener("keydown", (event) => this.key(event));
    new ResizeObserver(() => {
      this.paint();
      this.to.view();
    }).observe(this.canvas);
  }

  get place() {
    return layout(this.canvas.clientWidth, this.canvas.clientHeight, this.model.levels);
  }

  get columns() {
    return Math.max(50, Math.round(this.place.width));
  }

  /** Change some of the model and paint, once for all that changes at a time. */
  show(changes) {
    Object.assign(this.model, changes);
    if (this.changed) return;
    this.changed = true;
    queueMicrotask(() => {
      this.changed = false;
      this.paint();
    });
  }

  paint() {
    const { map, thresholdDb, line } = this.model;
    if (map) paintMap(this.canvas, this.model, map);
    else paintTake(this.canvas, this.model);
    this.placeRein();
    this.placeMarks();
    this.placeFlags();
    const none = thresholdDb === null || map !== null || this.model.drawn !== null || this.model.follow !== null;
    this.handle.hidden = this.line.hidden = none;
    if (none) return;
    const y = `${this.place.y(thresholdDb)}px`;
    this.handle.style.top = this.line.style.top = y;
    const text = thresholdDb.toFixed(1).replace("-", "−");
    this.handle.textContent = `${line.label.toLowerCase()} ${text}`;
    this.handle.setAttribute("aria-label", `${line.label} on the take`);
    this.handle.setAttribute("aria-valuemin", line.low);
    this.handle.setAttribute("aria-valuemax", line.high);
    this.handle.setAttribute("aria-valuenow", thresholdDb);
    this.handle.setAttribute("aria-valuetext", `${text} dB`);
  }

  /** The marks on the ruler: a press loops from there to the next, a drag moves one, Delete takes it away. */
  placeFlags() {
    const { places, start, frames } = this.model;
    const { left, width } = this.place;
    const seen = places.filter(({ at_frame: at }) => at >= start && at < start + frames);
    if (this.flagInHand) return;
    const there = new Map([...this.placeRow.children].map((flag) => [flag.dataset.place, flag])); // kept, with the focus and a first press
    const flags = seen.map(({ id, name, at_frame: at }) => {
      const flag = there.get(id) ?? this.newFlag(id);
      if (flag.textContent !== name) {
        flag.textContent = name;
        flag.title = `${name}: a press loops from here to the next mark; drag it, Delete takes it away, a double press lists all`;
      }
      flag.style.transform = `translateX(${(left + ((at - start) / frames) * width).toFixed(1)}px)`;
      return flag;
    });
    if (flags.length === this.placeRow.childElementCount && flags.every((flag, index) => flag === this.placeRow.children[index])) return;
    this.placeRow.replaceChildren(...flags);
    this.keepFlagStop ??= rove(this.placeRow, { selector: ".place-flag", sideways: true });
    this.keepFlagStop();
  }
  newFlag(id) {
    const flag = element("button", "place-flag", { type: "button", "data-place": id });
    flag.addEventListener("pointerdown", (event) => this.dragFlag(event, flag, id));
    flag.addEventListener("click", (event) => event.detail !== 2 && this.to.loopPlace(id));
    flag.addEventListener("dblclick", () => this.to.listPlaces());
    flag.addEventListener("keydown", ({ key }) => key === "Delete" && this.to.removePlace(id));
    return flag;
  }
  dragFlag(event, flag, id) {
    const { frames, places } = this.model;
    const { at_frame: at } = places.find((one) => one.id === id);
    const { left, width } = this.place;
    let moved = 0;
    const move = ({ clientX }) => {
      moved = clientX - event.clientX;
      if (Math.abs(moved) < CLICK_PX) return;
      this.flagInHand = true;
      flag.style.transform = `translateX(${(left + ((at - this.model.start) / frames) * width + moved).toFixed(1)}px)`;
    };
    const end = () => {
      flag.removeEventListener("pointermove", move);
      this.flagInHand = false;
      if (Math.abs(moved) < CLICK_PX) return;
      flag.addEventListener("click", (click) => click.stopImmediatePropagation(), { capture: true, once: true }); // it was no press
      this.to.movePlace(id, at + (moved / width) * frames);
    };
    flag.setPointerCapture(event.pointerId);
    flag.addEventListener("pointermove", move);
    flag.addEventListener("lostpointercapture", end, { once: true });
  }

  /** What was found in the part in view, above the take: a hit is a stroke, a phrase or sibilant a bar. */
  placeMarks() {
    const { marks, start, frames, sampleRate } = this.model;
    this.markRow.hidden = !marks;
    if (!marks) return;
    const { left, width } = this.place;
    Object.assign(this.markRow.style, { left: `${left}px`, width: `${width}px` });
    const seen = marks.at.map((mark) => (Array.isArray(mark) ? mark : [mark])).filter(([begin, end]) => (end ?? begin) * sampleRate >= start && begin * sampleRate < start + frames).slice(0, MOST_MARKS);
    while (this.markRow.childElementCount > seen.length) this.markRow.lastElementChild.remove();
    while (this.markRow.childElementCount < seen.length) {
      const mark = element("button", "found-mark", { type: "button" });
      mark.addEventListener("click", () => this.to.takeMark(Number(mark.dataset.at)));
      this.markRow.append(mark);
    }
    seen.forEach(([begin, end], index) => {
      const mark = this.markRow.children[index];
      const x = ((begin * sampleRate - start) / frames) * width;
      mark.dataset.at = String(begin);
      mark.style.left = `${x.toFixed(1)}px`;
      mark.style.width = end === undefined ? "" : `${Math.max((((end - begin) * sampleRate) / frames) * width, 2).toFixed(1)}px`;
      mark.classList.toggle("is-span", end !== undefined);
      mark.setAttribute("aria-label", `Take the mark at ${begin.toFixed(2)} s away`);
    });
    this.keepMarkStop ??= rove(this.markRow, { selector: ".found-mark", sideways: true });
    this.keepMarkStop();
  }

  /** The hand on a drawn line, and the two levels of a key. */
  placeRein() {
    const { drawn, follow, map } = this.model;
    this.lineHand.hidden = drawn === null || map !== null;
    if (!this.lineHand.hidden) this.to.placeLine();
    for (const [name, handle] of this.levels) {
      handle.hidden = follow === null || map !== null;
      if (handle.hidden) continue;
      const text = `${follow[name].toFixed(1).replace("-", "−")} dB`;
      handle.style.top = `${this.place.y(follow[name])}px`;
      handle.textContent = `${name} ${text}`;
      handle.setAttribute("aria-valuenow", follow[name]);
      handle.setAttribute("aria-valuetext", text);
    }
  }
  /** Where seconds and values of a drawn line lie on the hand on it, which begins under the ruler, and back. */
  lineAxes() {
    const { model, place } = this;
    const own = linePlace(place, model.drawn);
    return {
      x: (at) => place.left + ((at * model.sampleRate - model.start) / model.frames) * place.width,
      at: (x) => Math.max(0, frameAt(place, model, x) / model.sampleRate),
      y: (value) => own.y(value) - place.ruler, value: (y) => own.value(y + place.ruler),
      left: place.left, right: place.left + place.width, low: own.low, high: own.high,
    };
  }
  lineLimit(value) {
    const { low, high } = this.model.drawn.setting;
    return Math.min(high, Math.max(low, Number(value.toPrecision(5))));
  }

  playhead(frame) {
    const x = placeOf(this.place, this.model, frame);
    this.head.hidden = x === null;
    putStyle(this.head, "transform", `translateX(${(x ?? 0).toFixed(1)}px)`);
  }

  /** Show a part of the take, kept within it. */
  look(start, frames) {
    const whole = Math.max(this.model.end, SHORTEST_FRAMES);
    const length = Math.min(Math.max(frames, SHORTEST_FRAMES), whole);
    const from = Math.min(Math.max(0, start), whole - length);
    this.show({ start: Math.round(from), frames: Math.round(length) });
    this.to.view();
  }

  /** Turn the page when the playhead leaves the view. */
  follow(frame) {
    const { start, frames } = this.model;
    if (frame < start || frame >= start + frames) this.look(frame, frames);
  }

  /** Another level axis, for this picture and all that share it. */
  scale(levels) {
    this.show({ levels });
    this.to.scale(levels);
  }

  /** Whether a place is on the level axis, left of the picture. */
  onAxis({ offsetX, offsetY }) {
    return offsetX < this.place.left && offsetY > this.place.ruler && this.model.map === null;
  }

  wheel(event) {
    event.preventDefault();
    if (this.onAxis(event)) {
      const direction = event.deltaY > 0 ? 1 : -1;
      return this.scale(event.offsetY < this.place.zero ? magnified(this.model.levels, -direction) : deeper(this.model.levels, direction));
    }
    const { start, frames } = this.model;
    const sideways = event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY);
    if (sideways) this.look(start + (Math.sign(event.deltaX || event.deltaY) * frames) / 10, frames);
    else {
      const at = frameAt(this.place, this.model, event.offsetX);
      const length = frames * (event.deltaY > 0 ? 1.25 : 0.8);
      this.look(at - ((at - start) / frames) * length, length);
    }
  }

  /** The take by keyboard: move, zoom, scroll, set the loop. */
  walk(event) {
    const { start, frames, loop, end } = this.model;
    const beat = barFrames(this.model) / (event.shiftKey ? 1 : this.model.beatsPerBar);
    const here = Math.round(this.to.place());
    const zoom = (by) => this.look(here - ((here - start) / frames) * frames * by, frames * by);
    const act = {
      ArrowLeft: () => this.to.seek(Math.max(0, Math.round((Math.ceil(here / beat - 1e-6) - 1) * beat))),
      ArrowRight: () => this.to.seek(Math.min(end, Math.round((Math.floor(here / beat + 1e-6) + 1) * beat))),
      "+": () => zoom(0.8),
      "-": () => zoom(1.25),
      ArrowUp: () => this.scale(event.shiftKey ? magnified(this.model.levels, 1) : deeper(this.model.levels, -1)),
      ArrowDown: () => this.scale(event.shiftKey ? magnified(this.model.levels, -1) : deeper(this.model.levels, 1)),
      PageUp: () => this.look(start - frames / 2, frames),
      PageDown: () => this.look(start + frames / 2, frames),
      Enter: () => {
        const span = event.shiftKey ? { start_frame: Math.min(loop.start_frame, here), end_frame: here } : { start_frame: here, end_frame: Math.max(loop.end_frame, here) };
        this.to.loop({ ...span, on: span.end_frame > span.start_frame });
      },
    }[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  }

  press(event) {
    if (event.button !== 0) return;
    if (this.onAxis(event)) return this.dragAxis(event);
    if (event.altKey) return this.to.why(Math.max(0, Math.round(frameAt(this.place, this.model, event.offsetX))));
    const onRuler = event.offsetY < this.place.ruler;
    const begin = { x: event.clientX, frame: frameAt(this.place, this.model, event.offsetX), start: this.model.start };
    this.over.setPointerCapture(event.pointerId);
    const onMove = (moved) => {
      if (Math.abs(moved.clientX - begin.x) < CLICK_PX) return;
      const frame = begin.frame + ((moved.clientX - begin.x) / this.place.width) * this.model.frames;
      if (onRuler && !moved.shiftKey) this.show({ loop: { on: true, ...this.snapped(begin.frame, frame) } });
      else this.look(begin.start - (frame - begin.frame), this.model.frames);
      begin.moved = true;
    };
    const onEnd = (ended) => {
      this.over.removeEventListener("pointermove", onMove);
      if (!begin.moved) this.to.seek(Math.max(0, Math.round(begin.frame)));
      else if (onRuler && !ended.shiftKey) this.to.loop(this.model.loop);
    };
    this.over.addEventListener("pointermove", onMove);
    this.over.addEventListener("pointerup", onEnd, { once: true });
  }

  /** The level axis dragged: it goes with the hand; a double click puts it back. */
  dragAxis(event) {
    if (event.detail === 2) return this.scale(USUAL);
    const [began, levels, perDb] = [event.clientY, this.model.levels, this.place.perDb];
    this.over.setPointerCapture(event.pointerId);
    const onMove = (moved) => this.scale(shifted(levels, (moved.clientY - began) / perDb));
    this.over.addEventListener("pointermove", onMove);
    this.over.addEventListener("pointerup", () => this.over.removeEventListener("pointermove", onMove), { once: true });
  }

  /** A loop between two frames, on beats. */
  snapped(a, b) {
    const beat = barFrames(this.model) / this.model.beatsPerBar;
    const first = Math.max(0, Math.floor(Math.min(a, b) / beat));
    const last = Math.max(first + 1, Math.ceil(Math.max(a, b) / beat));
    return { start_frame: Math.round(first * beat), end_frame: Math.min(Math.round(last * beat), this.model.end) };
  }

  dragThreshold(event) {
    if (event.button !== 0) return;
    event.preventDefault();
    this.handle.focus();
    this.handle.setPointerCapture(event.pointerId);
    let level = this.model.thresholdDb;
    let y = event.clientY;
    const onMove = (moved) => {
      level -= ((moved.clientY - y) / this.place.perDb) * (moved.shiftKey ? 0.1 : 1);
      y = moved.clientY;
      this.to.threshold(level);
    };
    const onEnd = () => {
      this.handle.removeEventListener("pointermove", onMove);
      this.to.keepThreshold();
    };
    this.handle.addEventListener("pointermove", onMove);
    this.handle.addEventListener("pointerup", onEnd, { once: true });
  }

  key(event) {
    const direction = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    if (!direction) return;
    event.preventDefault();
    event.stopPropagation();
    this.to.nudge(direction, event.shiftKey);
  }
}
