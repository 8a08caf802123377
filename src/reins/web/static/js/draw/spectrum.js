// The spectrum: levels of now or of the whole take on the left scale; what the processor changes on the right one, at
// rest, now, and as far as it may go; the threshold across it, bending at bands that have their own.

import { blank, db, palette, stroke, write } from "./paper.js";

export const LOW_HZ = 20;
export const HIGH_HZ = 20000;
const EDGE = { left: 34, right: 30, top: 10, bottom: 18 };
const FLOOR_DB = -96;
const GAIN_DB = 24;
const TICKS_HZ = [50, 100, 200, 500, 1000, 2000, 5000, 10000];
const LOWEST_DB = -100; // of levels heard, in steps of half a dB
const WIDEST_PX = 26;
const NUMBERED = 6; // harmonics far enough apart for a number each
const STRONG_DB = 36; // two sounds are both strong where both come this near to the louder one's peak

/** Where things are on a picture of this size. */
export function layout(width, height) {
  const [w, h] = [width - EDGE.left - EDGE.right, height - EDGE.top - EDGE.bottom];
  const span = Math.log(HIGH_HZ / LOW_HZ);
  return {
    left: EDGE.left, right: EDGE.left + w, top: EDGE.top, bottom: EDGE.top + h,
    x: (hz) => EDGE.left + (Math.log(Math.min(Math.max(hz, LOW_HZ), HIGH_HZ) / LOW_HZ) / span) * w,
    hz: (x) => LOW_HZ * Math.exp(((x - EDGE.left) / w) * span),
    y: (level) => EDGE.top + (Math.min(Math.max(level, FLOOR_DB), 0) / FLOOR_DB) * h,
    level: (y) => ((y - EDGE.top) / h) * FLOOR_DB,
    gainY: (gain) => EDGE.top + h / 2 - (Math.min(Math.max(gain, -GAIN_DB), GAIN_DB) / GAIN_DB) * (h / 2),
    gain: (y) => ((EDGE.top + h / 2 - y) / (h / 2)) * GAIN_DB,
  };
}

export const frequencyText = (hz) => (hz >= 1000 ? `${hz / 1000}k` : String(hz));

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{hz: number[], shown: Record<string, number[]>, frequency: {rest_db: number[], reach_db: number[], lies_on_db: number[] | null} | null, tone: {tone_hz: number, db: number[]} | null, curve: number[] | null,
 *   thresholds: {gain: string, from: number, to: number, db: number}[], heard: Record<string, {share_pct: number[], above_pct: number}> | null, heardNow: Record<string, number> | null, drawn: number[] | null, crossovers: number[], watched: number[] | null, rubber: number[] | null}} model
 */
export function paintSpectrum(canvas, model) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const place = layout(width, height);
  grid(ink, colours, place, model.frequency !== null);
  const line = (values, y) => model.hz.map((hz, index) => [place.x(hz), y(values[index])]);
  const { source, result, key, beside } = model.shown;
  if (source) area(ink, colours["source-pale"], line(source, place.y), place.bottom);
  if (model.watched) {
    const [from, to] = model.watched.map(place.x);
    ink.globalAlpha = 0.14;
    ink.fillStyle = colours.key;
    ink.fillRect(from, place.top, to - from, place.bottom - place.top);
    ink.globalAlpha = 1;
  }
  if (beside) both(ink, colours, place, model.hz, result ?? source, beside);
  if (result) stroke(ink, source ? colours.source : colours.ink, 1.5, ...line(result, place.y));
  if (beside) dashed(ink, [2, 2], () => stroke(ink, colours.ink, 1.25, ...line(beside, place.y)));
  if (key) dashed(ink, [4, 3], () => stroke(ink, colours.key, 1.5, ...line(key, place.y)));
  for (const hz of model.crossovers) stroke(ink, colours.ink, 1.5, [place.x(hz), place.top], [place.x(hz), place.bottom]);
  heardLevels(ink, colours, place, model);
  threshold(ink, colours, place, model.thresholds);
  if (model.drawn) dashed(ink, [6, 4], () => stroke(ink, colours.held, 1.5, ...line(model.drawn, place.y)));
  if (model.tone) harmonics(ink, colours, place, model.tone);
  if (model.frequency) curves(ink, colours, place, model, line);
  if (model.rubber) dashed(ink, [4, 3], () => ink.strokeRect(...model.rubber));
}

/** Where a test tone and the harmonics it is given lie, each as high as it is loud: even ones stand, odd ones are red. */
function harmonics(ink, colours, place, { tone_hz: hz, db: levels }) {
  levels.forEach((level, index) => {
    const at = hz * (index + 1);
    if (at > HIGH_HZ || level <= FLOOR_DB) return;
    const colour = index === 0 ? colours.ink : index % 2 ? colours.let : colours.held;
    stroke(ink, colour, 2, [place.x(at), place.bottom], [place.x(at), place.y(level)]);
    if (index < NUMBERED) write(ink, colour, index ? String(index + 1) : "tone", place.x(at), place.y(level) - 7, "center");
  });
}

function dashed(ink, pattern, draw) {
  ink.setLineDash(pattern);
  draw();
  ink.setLineDash([]);
}

function grid(ink, colours, place, gains) {
  for (const hz of TICKS_HZ) {
    stroke(ink, colours.line, 1, [place.x(hz), place.top], [place.x(hz), place.bottom]);
    write(ink, colours.muted, frequencyText(hz), place.x(hz), place.bottom + 10, "center");
  }
  for (let level = 0; level >= FLOOR_DB; level -= 24) {
    stroke(ink, colours.line, 1, [place.left, place.y(level)], [place.right, place.y(level)]);
    write(ink, colours.muted, db(level), place.left - 5, Math.min(place.y(level), place.bottom - 4), "right");
  }
  if (!gains) return;
  for (const gain of [12, 0, -12]) write(ink, colours.ink, `${gain > 0 ? "+" : ""}${db(gain)}`, place.right + 5, place.gainY(gain));
}

function area(ink, colour, points, floor) {
  ink.fillStyle = colour;
  ink.beginPath();
  ink.moveTo(points[0][0], floor);
  for (const point of points) ink.lineTo(...point);
  ink.lineTo(points[points.length - 1][0], floor);
  ink.fill();
}

/** Where both of two sounds are strong, as upright strokes under the weaker one. */
function both(ink, colours, place, hz, one, other) {
  if (!one) return;
  const strong = Math.max(...one, ...other) - STRONG_DB;
  ink.globalAlpha = 0.6;
  hz.forEach((frequency, index) => {
    const level = Math.min(one[index], other[index]);
    if (level >= strong) stroke(ink, colours.key, 1.5, [place.x(frequency), place.y(level)], [place.x(frequency), place.bottom]);
  });
  ink.globalAlpha = 1;
}

/** Beside each threshold, as often as what its band hears sits at each level, over the whole take; a bar where it is now. */
function heardLevels(ink, colours, place, { thresholds, heard, heardNow }) {
  const drawn = new Set();
  for (const { gain, from, to, db: limit } of thresholds) {
    const known = heard?.[gain];
    if (!known || drawn.has(gain)) continue;
    drawn.add(gain);
    const [left, right] = [place.x(from), place.x(to)];
    const [middle, half] = [(left + right) / 2, Math.min(0.42 * (right - left), WIDEST_PX)];
    const shares = known.share_pct.slice(1).map((share, index, all) => (share + (all[index - 1] ?? 0) + (all[index + 1] ?? 0)) / 3); // what is under the lowest step says nothing
    const most = Math.max(...shares, 1e-6);
    ink.globalAlpha = 0.5;
    shares.forEach((share, index) => {
      const level = LOWEST_DB + (index + 1) / 2;
      if (share <= 0 || level < FLOOR_DB) return;
      const wide = half * Math.sqrt(share / most);
      ink.fillStyle = level >= limit ? colours.held : colours.source;
      ink.fillRect(middle - wide, place.y(level + 0.5), 2 * wide, place.y(level) - place.y(level + 0.5));
    });
    ink.globalAlpha = 1;
    const now = heardNow?.[gain];
    if (now > FLOOR_DB) stroke(ink, colours.ink, 2.5, [middle - half, place.y(now)], [middle + half, place.y(now)]);
    if (right - left <= 34) continue;
    ink.fillStyle = colours.sheet;
    ink.globalAlpha = 0.8;
    ink.fillRect(middle - 14, place.y(limit) - 15, 28, 13);
    ink.globalAlpha = 1;
    write(ink, colours.held, `${Math.round(known.above_pct)} %`, middle, place.y(limit) - 8, "center");
  }
}

/** One line across, stepping from one band's threshold to the next's. */
function threshold(ink, colours, place, segments) {
  if (!segments.length) return;
  const points = segments.flatMap(({ from, to, db: level }) => [[place.x(from), place.y(level)], [place.x(to), place.y(level)]]);
  dashed(ink, [6, 4], () => stroke(ink, colours.held, 1.5, ...points));
}

function curves(ink, colours, place, { frequency, curve }, line) {
  const rest = line(frequency.rest_db, place.gainY);
  dashed(ink, [1, 3], () => stroke(ink, colours.ink, 1, ...line(frequency.reach_db, place.gainY)));
  if (curve) {
    const now = line(curve, place.gainY);
    for (const [colour, taken] of [[colours.held, true], [colours.let, false]]) {
      ink.fillStyle = colour;
      ink.globalAlpha = 0.4;
      ink.beginPath();
      const edge = now.map(([x, y], index) => [x, taken ? Math.max(y, rest[index][1]) : Math.min(y, rest[index][1])]);
      [...edge, ...rest.slice().reverse()].forEach(([x, y]) => ink.lineTo(x, y));
      ink.fill();
      ink.globalAlpha = 1;
    }
    const let_ = curve.some((gain, index) => gain - frequency.rest_db[index] > 0.3);
    stroke(ink, let_ ? colours.let : colours.held, 1.5, ...now);
  }
  stroke(ink, colours.ink, 2, ...rest);
}
