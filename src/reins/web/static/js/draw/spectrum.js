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
const GRIP_PX = 48; // beside a grip, what is written is free of it
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
 *   thresholds: {gain: string, from: number, to: number, db: number}[], heard: Record<string, {share_pct: number[], above_pct: number, above_spectrum_db: number}> | null, heardNow: Record<string, number> | null, drawn: number[] | null, leaning: boolean, leans: {hz: number, db: number}[], bands: Record<string, {usual_db: number}> | null, crossovers: number[], watched: number[] | null, rubber: number[] | null}} model
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
  if (!model.leaning) heardLevels(ink, colours, place, model);
  if (!model.leaning) threshold(ink, colours, place, model);
  if (model.leaning && model.leans.length) leanLine(ink, colours, place, model);
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
    const y = (level) => place.y(level - known.above_spectrum_db);
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
      ink.fillRect(middle - wide, y(level + 0.5), 2 * wide, y(level) - y(level + 0.5));
    });
    ink.globalAlpha = 1;
    const now = heardNow?.[gain];
    if (now > FLOOR_DB) stroke(ink, colours.ink, 2.5, [middle - half, y(now)], [middle + half, y(now)]);
    if (right - left <= 34) continue;
    ink.fillStyle = colours.sheet;
    ink.globalAlpha = 0.8;
    ink.fillRect(middle - 14, y(limit) - 15, 28, 13);
    ink.globalAlpha = 1;
    write(ink, colours.held, `${Math.round(known.above_pct)} %`, middle, y(limit) - 8, "center");
  }
}

/** The line leaned over the bands, on the scale of gains; hatched under it as far as each band holds, its threshold lying on it. */
function leanLine(ink, colours, place, { leans, thresholds, bands }) {
  const points = [[LOW_HZ, leans[0].db], ...leans.map(({ hz, db: level }) => [hz, level]), [HIGH_HZ, leans.at(-1).db]].map(([hz, level]) => [place.x(hz), place.gainY(level)]);
  const yAt = (x) => {
    const after = Math.max(1, points.findIndex(([at]) => at >= x));
    const [[x0, y0], [x1, y1]] = [points[after - 1], points[after]];
    return y0 + ((y1 - y0) * (x - x0)) / Math.max(x1 - x0, 1);
  };
  for (const { gain, from, to, db: level } of thresholds) {
    const [left, right] = [place.x(from), place.x(to)];
    const usual = Math.abs(bands?.[gain]?.usual_db ?? 0);
    const apart = Math.max(3, 16 - 1.5 * usual); // the more is held, the closer the strokes
    const deep = 5 * usual;
    for (let x = left + apart / 2; usual > 0.2 && x < right; x += apart) stroke(ink, colours.held, 1, [x, yAt(x)], [x, yAt(x) + deep]);
    const near = leans.map(({ hz }) => place.x(hz)).find((grip) => Math.abs(grip - (left + right) / 2) < GRIP_PX);
    const middle = near === undefined ? (left + right) / 2 : near - GRIP_PX > left + 17 ? near - GRIP_PX : near + GRIP_PX;
    ink.fillStyle = colours.sheet;
    ink.fillRect(middle - 17, yAt(middle) - 19, 34, 14);
    write(ink, colours.held, db(Number(level.toFixed(1))), middle, yAt(middle) - 12, "center");
  }
  stroke(ink, colours.ink, 2.5, ...points);
}

/** One line across, stepping from one band's threshold to the next's; as low as a spectrum shows noise that just reaches them. */
function threshold(ink, colours, place, { thresholds, heard }) {
  if (!thresholds.length) return;
  const points = thresholds.flatMap(({ gain, from, to, db: level }) => [from, to].map((hz) => [place.x(hz), place.y(level - (heard?.[gain]?.above_spectrum_db ?? 0))]));
  dashed(ink, [6, 4], () => stroke(ink, colours.held, 1.5, ...points));
}

function curves(ink, colours, place, { frequency, curve, leaning }, line) {
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
  if (leaning) dashed(ink, [4, 3], () => stroke(ink, colours.muted, 1, ...rest)); // the line that is leaned is the one in hand
  else stroke(ink, colours.ink, 2, ...rest);
}
