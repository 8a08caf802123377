// The hand on the take: threshold, zoom, scroll, loop and playhead. Paints by draw/take.js.

import { barFrames, frameAt, layout, paintTake, placeOf } from "./draw/take.js";
import { putStyle } from "./put.js";

const SHORTEST_FRAMES = 2048;
const CLICK_PX = 4;

export class TakeView {
  /**
   * @param {HTMLElement} root holds .take-canvas, .take-hand, .playhead, .threshold-line and .threshold-handle
   * @param {{view: () => void, seek: (frame: number) => void, loop: (start: number, end: number) => void,
   *   threshold: (db: number) => void, keepThreshold: () => void, nudge: (direction: number, fine: boolean) => void}} to
   */
  constructor(root, to) {
    this.to = to;
    this.canvas = root.querySelector(".take-canvas");
    this.over = root.querySelector(".take-hand");
    this.head = root.querySelector(".playhead");
    this.handle = root.querySelector(".threshold-handle");
    this.line = root.querySelector(".threshold-line");
    this.model = {
      start: 0, frames: 1, end: 1, sampleRate: 48000, tempoBpm: 120, beatsPerBar: 4,
      loop: { on: false, start_frame: 0, end_frame: 0 }, picture: null, thresholdDb: null, line: null,
    };
    this.over.addEventListener("wheel", (event) => this.wheel(event), { passive: false });
    this.over.addEventListener("pointerdown", (event) => this.press(event));
    this.handle.addEventListener("pointerdown", (event) => this.dragThreshold(event));
    this.handle.addEventListener("keydown", (event) => this.key(event));
    new ResizeObserver(() => {
      this.paint();
      this.to.view();
    }).observe(this.canvas);
  }

  get place() {
    return layout(this.canvas.clientWidth, this.canvas.clientHeight);
  }

  get columns() {
    return Math.max(50, Math.round(this.place.width));
  }

  /** Change some of the model and paint. */
  show(changes) {
    Object.assign(this.model, changes);
    this.paint();
  }

  paint() {
    paintTake(this.canvas, this.model);
    const { thresholdDb, line } = this.model;
    this.handle.hidden = this.line.hidden = thresholdDb === null;
    if (thresholdDb === null) return;
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

  wheel(event) {
    event.preventDefault();
    const { start, frames } = this.model;
    const sideways = event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY);
    if (sideways) this.look(start + (Math.sign(event.deltaX || event.deltaY) * frames) / 10, frames);
    else {
      const at = frameAt(this.place, this.model, event.offsetX);
      const length = frames * (event.deltaY > 0 ? 1.25 : 0.8);
      this.look(at - ((at - start) / frames) * length, length);
    }
  }

  press(event) {
    if (event.button !== 0) return;
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
