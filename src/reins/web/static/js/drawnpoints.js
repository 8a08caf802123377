// @ts-check
// The points of a drawn line as handles on a picture: dragged, moved by arrows, added by a double click on the ground,
// taken away by Delete.

import { element } from "./control.js";

const FINE = 0.1;
const KEEP_AFTER_MS = 400;

/**
 * What the points lie on: places and values there and back in pixels, one step on from a place, how a place is rounded,
 * what a point is called, from where to where both go, and how many there may be.
 * @typedef {{points: number[][], x: (at: number) => number, at: (x: number) => number, y: (value: number) => number, value: (y: number) => number,
 *   shift: (at: number) => number, step: (at: number, steps: number) => number, round: (at: number) => number, says: (point: number[]) => string,
 *   begin: number, end: number, low: number, high: number, least: number, most: number}} Ground
 */

const within = (value, low, high) => Math.min(high, Math.max(low, value));

export class DrawnPoints {
  /** @param {HTMLElement} root of the handles @param {HTMLElement} ground @param {{attempt: (points: number[][]) => void, keep: (points: number[][]) => void}} to */
  constructor(root, ground, to) {
    this.root = root;
    this.to = to;
    /** @type {HTMLElement[]} */
    this.handles = [];
    /** @type {Ground | null} */
    this.on = null;
    /** @type {number[][] | null} */
    this.dragged = null;
    /** @type {ReturnType<typeof setTimeout> | undefined} */
    this.resting = undefined;
    ground.addEventListener("dblclick", (event) => this.add(event.offsetX, event.offsetY));
  }

  /** Lay a handle on each point; shift says by how much a point's value is drawn higher. @param {Ground | null} on */
  show(on) {
    this.on = on && { ...on, points: on.points.map((point) => [...point]) }; // what the desk watches goes to no worker
    const points = this.dragged ?? on?.points ?? [];
    while (this.handles.length > points.length) this.handles.pop()?.remove();
    while (this.handles.length < points.length) this.handles.push(this.handle(this.handles.length));
    this.handles.forEach((handle, index) => {
      const [at, value] = points[index];
      handle.style.left = `${on?.x(at)}px`;
      handle.style.top = `${on?.y(value + on.shift(at))}px`;
      handle.setAttribute("aria-label", `Point ${index + 1}, ${on?.says(points[index])}`);
    });
  }

  handle(index) {
    const handle = element("button", "handle drawn-point", { type: "button", "data-point": String(index), "data-help": "Drag it; Shift is fine, Delete takes it away. A double click beside the points adds one." });
    handle.addEventListener("pointerdown", (event) => event.button === 0 && this.drag(event, handle, index));
    handle.addEventListener("keydown", (event) => this.key(event, index));
    handle.addEventListener("dblclick", (event) => event.stopPropagation());
    this.root.append(handle);
    return handle;
  }

  /** The points with one of them elsewhere, kept between its neighbours. */
  moved(index, at, value) {
    const { points, step, round, begin, end, low, high } = /** @type {Ground} */ (this.on);
    const [before, after] = [points[index - 1], points[index + 1]];
    const place = round(within(at, before ? step(before[0], 1) : begin, after ? step(after[0], -1) : end));
    return points.with(index, [place, Math.round(10 * within(value, low, high)) / 10, ...points[index].slice(2)]);
  }

  drag(event, handle, index) {
    event.preventDefault();
    event.stopPropagation();
    handle.focus();
    handle.setPointerCapture(event.pointerId);
    let [x, y, dx, dy] = [event.clientX, event.clientY, 0, 0];
    const [at, value] = /** @type {Ground} */ (this.on).points[index];
    const move = (now) => {
      const scale = now.shiftKey ? FINE : 1;
      dx += (now.clientX - x) * scale;
      dy += (now.clientY - y) * scale;
      [x, y] = [now.clientX, now.clientY];
      const on = /** @type {Ground} */ (this.on);
      this.dragged = this.moved(index, dx ? on.at(on.x(at) + dx) : at, value + on.value(dy) - on.value(0));
      this.show(on);
      this.to.attempt(this.dragged);
    };
    const stop = () => {
      handle.removeEventListener("pointermove", move);
      this.rest();
    };
    handle.addEventListener("pointermove", move);
    handle.addEventListener("pointerup", stop, { once: true });
    handle.addEventListener("pointercancel", stop, { once: true });
  }

  key(event, index) {
    if (!this.on || event.altKey || event.ctrlKey) return;
    const on = (this.on = { ...this.on, points: this.dragged ?? this.on.points });
    const [at, value] = on.points[index];
    const [steps, db] = event.shiftKey ? [FINE, FINE] : [1, 1];
    const made = {
      ArrowLeft: () => this.moved(index, on.step(at, -steps), value), ArrowRight: () => this.moved(index, on.step(at, steps), value),
      ArrowDown: () => this.moved(index, at, value - db), ArrowUp: () => this.moved(index, at, value + db),
      Delete: () => (on.points.length > on.least ? on.points.toSpliced(index, 1) : null),
    }[event.key]?.();
    if (!made) return;
    event.preventDefault();
    event.stopPropagation();
    this.dragged = made;
    this.show(on);
    this.to.attempt(made);
    clearTimeout(this.resting);
    this.resting = setTimeout(() => this.rest(), KEEP_AFTER_MS);
  }

  /** Keep what was tried, once the hand rests. */
  rest() {
    const made = this.dragged;
    this.dragged = null;
    if (made) this.to.keep(made);
  }

  add(x, y) {
    const { on } = this;
    if (!on || on.points.length >= on.most) return;
    const at = on.round(within(on.at(x), on.begin, on.end));
    if (on.points.some(([other]) => Math.abs(on.x(other) - x) < 4)) return; // on a point, not beside them
    const value = Math.round(10 * within(on.value(y) - on.shift(at), on.low, on.high)) / 10;
    const made = [...on.points, [at, value, 0]].sort(([one], [other]) => one - other);
    this.show({ ...on, points: made }); // at once: what the hand does next is to these
    this.to.attempt(made);
    this.to.keep(made);
  }
}
