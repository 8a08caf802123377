// The whole session in a strip above the take: shows which part is in view, and is dragged to another.

import { blank, palette, stroke } from "./draw/paper.js";
import { LEFT, RIGHT } from "./draw/take.js";

export class Overview {
  /** @param {HTMLCanvasElement} canvas @param {(start: number, frames: number) => void} look */
  constructor(canvas, look) {
    Object.assign(this, { canvas, look, model: null, peaks: null });
    canvas.addEventListener("pointerdown", (event) => this.press(event));
    new ResizeObserver(() => this.paint()).observe(canvas);
  }

  /** Show the peaks of a whole sound. @param {{overview_db: number[], frames: number} | null} levels */
  show(levels) {
    this.peaks = levels;
    this.paint();
  }

  /** Follow what the take shows. @param {{start: number, frames: number, end: number}} model */
  follow(model) {
    this.model = model;
    this.paint();
  }

  get scale() {
    return (this.canvas.clientWidth - LEFT - RIGHT) / Math.max(this.model?.end ?? 1, 1);
  }

  paint() {
    const { ink, height } = blank(this.canvas);
    const colours = palette();
    if (!this.model || this.model.end <= 1) return;
    const x = (frame) => LEFT + frame * this.scale;
    const floor = height - 2;
    stroke(ink, colours.line, 1, [LEFT, floor], [x(this.model.end), floor]);
    if (this.peaks) {
      const { overview_db: levels, frames } = this.peaks;
      ink.fillStyle = colours.source;
      ink.beginPath();
      ink.moveTo(x(0), floor);
      const axis = this.model.levels;
      const share = (level) => (Math.min(Math.max(level, axis.floor), axis.top) - axis.floor) / (axis.top - axis.floor);
      levels.forEach((level, index) => ink.lineTo(x(((index + 0.5) / levels.length) * frames), floor - share(level) * (floor - 3)));
      ink.lineTo(x(frames), floor);
      ink.fill();
    }
    const [from, to] = [x(this.model.start), x(Math.min(this.model.start + this.model.frames, this.model.end))];
    ink.strokeStyle = colours.ink;
    ink.lineWidth = 1.5;
    ink.strokeRect(from + 0.75, 1, Math.max(to - from - 1.5, 4), floor);
  }

  press(event) {
    if (!this.model) return;
    const { start, frames } = this.model;
    const at = (event.offsetX - LEFT) / this.scale;
    const inside = at >= start && at <= start + frames;
    const grip = inside ? at - start : frames / 2;
    this.canvas.setPointerCapture(event.pointerId);
    const onMove = (moved) => this.look((moved.offsetX - LEFT) / this.scale - grip, frames);
    if (!inside) onMove(event);
    this.canvas.addEventListener("pointermove", onMove);
    this.canvas.addEventListener("pointerup", () => this.canvas.removeEventListener("pointermove", onMove), { once: true });
  }
}
