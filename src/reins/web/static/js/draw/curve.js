// In and out: the transfer curve over how long the take sits at each level, and the moving point of now.

import { blank, db, palette, stroke, write } from "./paper.js";

const LOW_DB = -60;
const EDGE = { left: 30, top: 8, right: 10, bottom: 22 };

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{curve: {in_db: number[], out_db: number[]}, levels: {from_db: number[], share_pct: number[]} | null,
 *   thresholdDb: number, kneeDb: number, now: [number, number] | null}} model
 */
export function paintCurve(canvas, model) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const w = width - EDGE.left - EDGE.right;
  const h = height - EDGE.top - EDGE.bottom;
  const x = (level) => EDGE.left + ((Math.max(level, LOW_DB) - LOW_DB) / -LOW_DB) * w;
  const y = (level) => EDGE.top + (Math.min(Math.max(level, LOW_DB), 0) / LOW_DB) * h;
  for (let level = LOW_DB; level <= 0; level += 12) {
    stroke(ink, colours.line, 1, [x(level), EDGE.top], [x(level), EDGE.top + h]);
    stroke(ink, colours.line, 1, [EDGE.left, y(level)], [EDGE.left + w, y(level)]);
    const label = level === LOW_DB ? "" : db(level);
    write(ink, colours.muted, label, x(level), height - 10, level === 0 ? "right" : "center");
    write(ink, colours.muted, label, EDGE.left - 6, Math.max(y(level), 8), "right");
  }
  if (model.levels) histogram(ink, colours, model, x, EDGE.top + h, h * 0.4);
  ink.fillStyle = colours.held;
  ink.globalAlpha = 0.1;
  if (model.kneeDb > 0) ink.fillRect(x(model.thresholdDb - model.kneeDb / 2), EDGE.top, x(model.thresholdDb + model.kneeDb / 2) - x(model.thresholdDb - model.kneeDb / 2), h);
  ink.globalAlpha = 1;
  ink.setLineDash([3, 4]);
  stroke(ink, colours.muted, 1, [x(LOW_DB), y(LOW_DB)], [x(0), y(0)]);
  ink.setLineDash([]);
  stroke(ink, colours.held, 1.5, [x(model.thresholdDb), EDGE.top], [x(model.thresholdDb), EDGE.top + h]);
  ink.save();
  ink.beginPath();
  ink.rect(EDGE.left, EDGE.top - 2, w + 2, h + 4);
  ink.clip();
  stroke(ink, colours.ink, 2.25, ...model.curve.in_db.map((level, index) => [x(level), EDGE.top + (model.curve.out_db[index] / LOW_DB) * h]));
  ink.restore();
  if (model.now && model.now[0] > LOW_DB) point(ink, colours, x(model.now[0]), y(model.now[0]), y(model.now[1]));
}

function histogram(ink, colours, { levels, thresholdDb }, x, floor, height) {
  const most = Math.max(...levels.share_pct, 1e-6);
  levels.from_db.forEach((from, index) => {
    const tall = Math.sqrt(levels.share_pct[index] / most) * height;
    ink.fillStyle = from >= thresholdDb ? colours.held : colours.source;
    ink.globalAlpha = 0.45;
    ink.fillRect(x(from) + 0.5, floor - tall, x(from + 1) - x(from) - 1, tall);
  });
  ink.globalAlpha = 1;
}

function point(ink, colours, x, unheld, y) {
  stroke(ink, colours.held, 2, [x, unheld], [x, y]);
  ink.fillStyle = colours.ink;
  ink.beginPath();
  ink.arc(x, y, 4.5, 0, 2 * Math.PI);
  ink.fill();
}
