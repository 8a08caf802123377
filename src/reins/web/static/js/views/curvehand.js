// The hand on a drawn curve: points are dragged, added, removed, chosen by a rubber band and bent by the pieces between
// them. Where a point lies in the picture, and where it may go, is given by whom it serves.

import { added, placedPoint, valueOf } from "../bends.js";
import { element } from "../control.js";

const NEAR_PX = 9; // of a piece, to bend it
const CLICK_PX = 4;
const BEND_PX = 90; // of a drag that bends as far as it goes
const MOST_BEADS = 400; // more points than that in view are drawn, but get no beads

export class CurveHand {
  /**
   * @param {HTMLElement} root
   * @param {{draw: (points: number[][], axes: object) => void, axes: () => {x: (at: number) => number, y: (value: number) => number, at: (x: number) => number, value: (y: number) => number},
   *   snap: (at: number) => number, limit: (value: number) => number, ends: boolean, most: number, addBy: "click" | "dblclick",
   *   step: () => number, word: (point: number[]) => string, attempt: (points: number[][]) => void, keep: (points: number[][]) => void}} to
   *   ends: whether the first and the last point stay where they are
   */
  constructor(root, to) {
    Object.assign(this, { root, to, points: [], chosen: new Set(), beads: [] });
    this.band = element("div", "curve-band");
    this.band.hidden = true;
    root.append(this.band);
    root.addEventListener("pointerdown", (event) => this.press(event));
    root.addEventListener("dblclick", (event) => this.double(event));
    root.addEventListener("keydown", (event) => this.key(event));
  }

  /** Show points; a hand on them wins. */
  show(points) {
    if (this.holding) return;
    this.points = points;
    this.chosen = new Set([...this.chosen].filter((index) => index < points.length));
    this.place();
  }

  /** Put the beads where their points lie. */
  place() {
    if (!this.points.length) return;
    const axes = this.to.axes(); // once for all: it asks the page how large things are
    const { left, right } = axes;
    this.to.draw?.(this.points, axes);
    const inView = this.points.map((point, index) => [index, axes.x(point[0])]).filter(([, x]) => x >= left - 1 && x <= right + 1);
    const shown = inView.length > MOST_BEADS ? [] : inView;
    while (this.beads.length < shown.length) this.beads.push(this.bead());
    this.beads.forEach((bead, place) => {
      bead.hidden = place >= shown.length;
      if (bead.hidden) return;
      const [index, x] = shown[place];
      const point = this.points[index];
      const where = `translate(${x.toFixed(1)}px, ${axes.y(point[1]).toFixed(1)}px)`;
      if (bead.where !== where || bead.dataset.point !== String(index)) { // of hundreds a drag moves one
        bead.where = bead.style.transform = where;
        bead.dataset.point = String(index);
        bead.setAttribute("aria-label", `Point ${index + 1}: ${this.to.word(point)}`);
      }
      bead.classList.toggle("is-chosen", this.chosen.has(index));
    });
  }

  bead() {
    const bead = element("button", "curve-point", { type: "button" });
    this.root.append(bead);
    return bead;
  }

  fixed(index) { return this.to.ends && (index === 0 || index === this.points.length - 1); }

  /** Try points: drawn and heard with the next picture, however many moves the hand has made till then. */
  try(points) {
    this.points = points;
    if (this.drawing) return;
    this.drawing = requestAnimationFrame(() => this.tried());
  }
  tried() {
    cancelAnimationFrame(this.drawing);
    this.drawing = null;
    this.to.attempt(this.points);
    this.place();
  }

  press(event) {
    if (event.button !== 0) return;
    const bead = event.target.closest(".curve-point");
    event.stopPropagation();
    if (bead) return this.dragPoints(event, Number(bead.dataset.point));
    const { left, top } = this.root.getBoundingClientRect();
    const [x, y] = [event.clientX - left, event.clientY - top];
    const piece = this.pieceAt(x, y);
    if (piece !== null) return this.bend(event, piece);
    return this.choose(event, x, y);
  }

  /** The piece of the curve under a place, by its first point; null where there is none. */
  pieceAt(x, y) {
    const axes = this.to.axes();
    const at = axes.at(x);
    if (this.points.length < 2 || at <= this.points[0][0] || at >= this.points[this.points.length - 1][0]) return null;
    if (Math.abs(axes.y(valueOf(this.points, at)) - y) > NEAR_PX) return null;
    return this.points.findLastIndex((point) => point[0] <= at);
  }

  /** Follow the pointer until it is let go; then keep what was tried. */
  hold(event, onMove, onEnd = () => {}) {
    event.preventDefault();
    this.root.setPointerCapture(event.pointerId);
    this.holding = true;
    const before = this.points;
    const move = (moved) => onMove(moved);
    const end = (ended) => {
      this.root.removeEventListener("pointermove", move);
      this.holding = false;
      onEnd(ended);
      if (this.drawing) this.tried();
      if (this.points !== before) this.to.keep(this.points);
    };
    this.root.addEventListener("pointermove", move);
    this.root.addEventListener("pointerup", end, { once: true });
    this.root.addEventListener("pointercancel", end, { once: true });
  }

  dragPoints(event, index) {
    if (!this.chosen.has(index)) this.chosen = new Set([index]);
    this.beads.find((bead) => Number(bead.dataset.point) === index)?.focus();
    this.place();
    const [began, points, axes] = [{ x: event.clientX, y: event.clientY }, this.points, this.to.axes()];
    this.hold(event, (moved) => {
      const fine = moved.shiftKey && !this.to.ends ? 0.1 : 1;
      const [dx, dy] = [(moved.clientX - began.x) * fine, (moved.clientY - began.y) * fine];
      this.try([...this.chosen].sort((a, b) => (dx > 0 ? b - a : a - b)).reduce((all, chosen) => {
        const [at, value] = points[chosen];
        const wanted = axes.at(axes.x(at) + dx);
        const there = this.fixed(chosen) ? at : moved.shiftKey ? wanted : this.to.snap(wanted);
        return placedPoint(all, chosen, there, this.to.limit(axes.value(axes.y(value) + dy)));
      }, points));
    });
  }

  bend(event, piece) {
    const [began, points] = [event.clientY, this.points];
    const up = Math.sign(points[piece + 1][1] - points[piece][1]) || 1;
    this.hold(event, (moved) => {
      const bend = points[piece][2] + (up * (moved.clientY - began) * (moved.shiftKey ? 0.1 : 1)) / BEND_PX;
      this.try(points.map((point, k) => (k === piece ? [point[0], point[1], Math.round(Math.min(1, Math.max(-1, bend)) * 1000) / 1000] : point)));
    });
  }

  /** A rubber band chooses; a click on empty ground adds a point, where that is how it is done. */
  choose(event, x, y) {
    const began = { x: event.clientX, y: event.clientY };
    let span = null;
    this.hold(event, (moved) => {
      const [dx, dy] = [moved.clientX - began.x, moved.clientY - began.y];
      if (!span && Math.hypot(dx, dy) < CLICK_PX) return;
      span = [Math.min(x, x + dx), Math.min(y, y + dy), Math.abs(dx), Math.abs(dy)];
      this.band.hidden = false;
      Object.assign(this.band.style, { transform: `translate(${span[0]}px, ${span[1]}px)`, width: `${span[2]}px`, height: `${span[3]}px` });
      const inside = (from, size, place) => place >= from && place <= from + size;
      const axes = this.to.axes();
      this.chosen = new Set(this.points.flatMap(([at, value], index) => (inside(span[0], span[2], axes.x(at)) && inside(span[1], span[3], axes.y(value)) ? [index] : [])));
      this.place();
    }, () => {
      this.band.hidden = true;
      if (!span && this.to.addBy === "click") this.add(x, y);
      else if (!span) this.chosen = new Set();
      this.place();
    });
  }

  double(event) {
    event.stopPropagation();
    if (this.to.addBy !== "dblclick" || event.target.closest(".curve-point")) return;
    const { left, top } = this.root.getBoundingClientRect();
    const before = this.points;
    this.add(event.clientX - left, event.clientY - top);
    if (this.points !== before) this.to.keep(this.points);
  }

  add(x, y) {
    if (this.points.length >= this.to.most) return;
    const axes = this.to.axes();
    const [points, index] = added(this.points, this.to.snap(axes.at(x)), this.to.limit(axes.value(y)));
    this.chosen = new Set([index]);
    this.points = points;
    this.tried();
    this.beads.find((bead) => Number(bead.dataset.point) === index)?.focus();
  }

  /** Arrows move the chosen points, Delete takes them away. */
  key(event) {
    const bead = event.target.closest(".curve-point");
    if (bead && !this.chosen.size) this.chosen = new Set([Number(bead.dataset.point)]);
    if (!this.chosen.size) return;
    const ways = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
    if (event.key === "Delete" || event.key === "Backspace") {
      const left = this.points.filter((_, index) => !this.chosen.has(index) || this.fixed(index));
      if (left.length === this.points.length || left.length < 1) return;
      this.chosen = new Set();
      this.try(left);
    } else if (ways[event.key]) {
      const [dx, dy] = ways[event.key];
      const axes = this.to.axes();
      this.try([...this.chosen].reduce((all, index) => {
        const [at, value] = all[index];
        const there = this.fixed(index) ? at : at + dx * this.to.step() * (event.shiftKey ? 0.1 : 1);
        return placedPoint(all, index, there, this.to.limit(axes.value(axes.y(value) + dy * (event.shiftKey ? 1 : 6))));
      }, this.points));
    } else return;
    event.preventDefault();
    event.stopPropagation();
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => this.to.keep(this.points), 400);
  }
}
