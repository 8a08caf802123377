// In and out: the transfer curve over how long the take sits at each level, and the moving point of now.

import { lines, USUAL } from "../levels.js";
import { blank, db, palette, stroke, write } from "./paper.js";

const ROOM = 34;
const EDGE = { left: 30, top: 8, right: 10, bottom: 22 };

/** Where levels in and out lie on a picture of this size; unlike y, straight goes on beyond its edges. */
export function curveLayout(width, height, { top, floor } = USUAL) {
  const w = width - EDGE.left - EDGE.right;
  const h = height - EDGE.top - EDGE.bottom;
  const span = top - floor;
  const kept = (level) => Math.min(Math.max(level, floor), top);
  return {
    w, h, span, top, floor,
    x: (level) => EDGE.left + ((kept(level) - floor) / span) * w,
    y: (level) => EDGE.top + ((top - kept(level)) / span) * h,
    straight: (level) => EDGE.top + ((top - level) / span) * h,
    levelIn: (x) => floor + ((x - EDGE.left) / w) * span,
    levelOut: (y) => top - ((y - EDGE.top) / h) * span,
  };
}

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{curve: {in_db: number[], out_db: number[], apart_db: Record<string, number[]>}, inCharge: number, levels: {from_db: number[], share_pct: number[]} | null,
 *   axis: import("../levels.js").Levels, points: number[][] | null, thresholdDb: number, kneeDb: number, now: [number, number] | null}} model
 */
export function paintCurve(canvas, model) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const { w, h, span, top, floor, x, y, straight } = curveLayout(width, height, model.axis);
  for (const level of lines({ top, floor }, Math.min(0.62 * w, h) / span)) {
    stroke(ink, colours.line, 1, [x(level), EDGE.top], [x(level), EDGE.top + h]);
    stroke(ink, colours.line, 1, [EDGE.left, y(level)], [EDGE.left + w, y(level)]);
    const label = level === floor ? "" : db(level);
    write(ink, colours.muted, label, x(level), height - 10, level === top ? "right" : "center");
    write(ink, colours.muted, label, EDGE.left - 6, Math.max(y(level), 8), "right");
  }
  if (model.levels) histogram(ink, colours, model, x, EDGE.top + h, h * 0.4);
  ink.fillStyle = colours.held;
  ink.globalAlpha = 0.1;
  if (model.kneeDb > 0) ink.fillRect(x(model.thresholdDb - model.kneeDb / 2), EDGE.top, x(model.thresholdDb + model.kneeDb / 2) - x(model.thresholdDb - model.kneeDb / 2), h);
  ink.globalAlpha = 1;
  ink.setLineDash([3, 4]);
  stroke(ink, colours.muted, 1, [x(floor), y(floor)], [x(top), y(top)]);
  ink.setLineDash([]);
  stroke(ink, colours.held, 1.5, [x(model.thresholdDb), EDGE.top], [x(model.thresholdDb), EDGE.top + h]);
  ink.save();
  ink.beginPath();
  ink.rect(EDGE.left, EDGE.top - 2, w + 2, h + 4);
  ink.clip();
  const law = (out) => model.curve.in_db.flatMap((level, index) => (level < floor || level > top ? [] : [[x(level), straight(out[index])]]));
  const apart = Object.entries(model.curve.apart_db);
  const charged = apart.length - model.inCharge; // detectors are numbered from the last
  const ends = [];
  apart.forEach(([name, out], index) => {
    const acts = model.now !== null && index === charged;
    stroke(ink, acts ? colours.held : colours.source, acts ? 2.5 : 1.25, ...law(out));
    const [right, end] = law(out).at(-1) ?? [0, 0];
    const near = ends.find((other) => Math.abs(other.end - end) < 12); // its name would lie on that one's
    if (near) Object.assign(near, { name: `${near.name}, ${name}`, acts: near.acts || acts });
    else ends.push({ name, acts, right, end });
  });
  for (const { name, acts, right, end } of ends) write(ink, acts ? colours.held : colours.muted, name, right - 4, end + 9, "right");
  if (model.now && model.now[0] > floor) nowLaw(ink, colours, model, x, straight, { top, floor });
  if (model.points) gainBeside(ink, colours, law(model.curve.out_db), straight, model.curve.in_db.filter((level) => level >= floor && level <= top));
  stroke(ink, colours.ink, 2.25, ...law(model.curve.out_db));
  for (const [at, out] of model.points ?? []) {
    if (at < floor || at > top) continue;
    const left = x(at) > EDGE.left + w - ROOM; // its gain beside it, where there is room for that
    write(ink, out < at ? colours.held : colours.let, gainText(out - at), x(at) + (left ? -11 : 11), y(out) + (out < at ? 11 : -11), left ? "right" : "left");
  }
  ink.restore();
  if (model.now && model.now[0] > floor) point(ink, colours, x(model.now[0]), y(model.now[0]), y(model.now[1]));
}

const gainText = (gain) => (Math.abs(gain) < 0.05 ? "" : `${gain > 0 ? "+" : ""}${db(Number(gain.toFixed(1)))}`);

/** The gain a drawn curve makes of each level: what lies between it and the line of no change. */
function gainBeside(ink, colours, law, y, levels) {
  ink.globalAlpha = 0.16;
  for (const [colour, further] of [[colours.held, Math.max], [colours.let, Math.min]]) {
    ink.fillStyle = colour;
    ink.beginPath();
    law.forEach(([x, out], index) => ink.lineTo(x, further(out, y(levels[index]))));
    levels.toReversed().forEach((level, index) => ink.lineTo(law[law.length - 1 - index][0], y(level)));
    ink.fill();
  }
  ink.globalAlpha = 1;
}

/** What any level would be turned to at this moment: the straight line through now, which the programme moves. */
function nowLaw(ink, colours, { now: [into, out] }, x, y, { top, floor }) {
  const gain = out - into;
  if (Math.abs(gain) < 0.1) return;
  ink.setLineDash([5, 3]);
  stroke(ink, colours.held, 1.25, [x(floor), y(floor + gain)], [x(top), y(top + gain)]);
  ink.setLineDash([]);
}

function histogram(ink, colours, { levels, thresholdDb }, x, floor, height) {
  const most = Math.max(...levels.share_pct, 1e-6);
  levels.from_db.forEach((from, index) => {
    if (x(from + 1) <= x(from)) return; // outside the axis
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
