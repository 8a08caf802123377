// The small pictures of the bench: what attack, hold and release do to a burst, the harmonics a curve gives a tone, and
// how deep how often.

import { blank, db, palette, stroke, write } from "./paper.js";

const TONE_WIDTH = 84;
const TILE_DB = 60;
const TILE_HELD_DB = 18;

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{time_ms: number[], gain_db: number[], note_db: number[] | null, burst_ms: [number, number], tone: number[], tone_hz: number}} burst
 */
export function paintBurst(canvas, burst) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const total = burst.time_ms[burst.time_ms.length - 1];
  const right = width - (width > 200 ? TONE_WIDTH : 0);
  const x = (ms) => 2 + (ms / total) * (right - 4);
  const rows = [...burst.gain_db, ...(burst.note_db ?? [])];
  const low = Math.max(Math.min(...rows, 0), -60);
  const high = Math.max(...rows, 0);
  const span = Math.max(high - low, 3);
  const y = (gain) => 22 + ((high - Math.max(gain, low)) / span) * (height - 40);
  const lifted = high > -low;
  const place = (gain, index) => [x(burst.time_ms[index]), y(gain)];
  ink.fillStyle = colours.source;
  ink.fillRect(x(burst.burst_ms[0]), 12, x(burst.burst_ms[1]) - x(burst.burst_ms[0]), 5);
  const after = x(burst.burst_ms[1]) + 6;
  const words = burst.note_db ? "100 ms, and (dashed) 2 s" : "100 ms, 12 dB over";
  write(ink, colours.muted, words, after < right - 130 ? after : right - 4, after < right - 130 ? 14 : 5, after < right - 130 ? "left" : "right");
  stroke(ink, colours.line, 1, [0, y(0)], [right, y(0)]);
  const colour = lifted ? colours.let : colours.held;
  ink.fillStyle = colour;
  ink.globalAlpha = 0.25;
  ink.beginPath();
  ink.moveTo(x(0), y(0));
  burst.gain_db.forEach((gain, index) => ink.lineTo(...place(gain, index)));
  ink.lineTo(x(total), y(0));
  ink.fill();
  ink.globalAlpha = 1;
  stroke(ink, colour, 1.75, ...burst.gain_db.map(place));
  if (burst.note_db) {
    ink.setLineDash([4, 3]);
    stroke(ink, colour, 1.25, ...burst.note_db.map(place));
    ink.setLineDash([]);
  }
  write(ink, colours.muted, `${lifted ? "+" : ""}${db((lifted ? high : low).toFixed(1))} dB`, 2, height - 7);
  write(ink, colours.muted, total >= 1000 ? `${(total / 1000).toFixed(1)} s` : `${Math.round(total)} ms`, right - 2, height - 7, "right");
  if (right < width) paintTone(ink, colours, burst, right + 10, width - 2, height);
}

/** Two periods of a low tone as they leave, over the tone: where both part, the times are too quick for it. */
function paintTone(ink, colours, { tone, tone_hz: hz }, left, right, height) {
  const [middle, tall] = [12 + (height - 30) / 2, (height - 34) / 2];
  const x = (index) => left + (index / (tone.length - 1)) * (right - left);
  stroke(ink, colours.source, 1.25, ...tone.map((_, index) => [x(index), middle - tall * Math.sin((4 * Math.PI * index) / tone.length)]));
  stroke(ink, colours.held, 1.5, ...tone.map((value, index) => [x(index), middle - tall * value]));
  write(ink, colours.muted, `${hz} Hz`, right, height - 7, "right");
}

const FLOOR_DB = -100;

/** The curve from -1 to 1, straight behind it, and beside it the harmonics of a test tone.
 * @param {HTMLCanvasElement} canvas @param {{tone_db: number, db: number[], in: number[], out: number[]}} harmonics */
export function paintHarmonics(canvas, harmonics) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const side = Math.min(height - 8, width * 0.35);
  const most = Math.max(1, ...harmonics.out.map(Math.abs));
  const [x, y] = [(value) => 4 + ((value + 1) / 2) * side, (value) => 4 + (side * (1 - value / most)) / 2];
  stroke(ink, colours.line, 1, [x(-1), y(0)], [x(1), y(0)]);
  stroke(ink, colours.line, 1, [x(0), y(-most)], [x(0), y(most)]);
  stroke(ink, colours.source, 1, [x(-1), y(-1)], [x(1), y(1)]);
  stroke(ink, colours.held, 1.75, ...harmonics.in.map((value, index) => [x(value), y(harmonics.out[index])]));
  const [left, floor] = [side + 42, height - 16];
  const wide = (width - left) / harmonics.db.length;
  const tall = (level) => ((Math.max(level, FLOOR_DB) - FLOOR_DB) / -FLOOR_DB) * (floor - 9);
  for (const level of [0, -40, -80]) {
    stroke(ink, colours.line, 1, [left, floor - tall(level)], [width, floor - tall(level)]);
    write(ink, colours.muted, db(level), left - 5, floor - tall(level), "right");
  }
  harmonics.db.forEach((level, index) => {
    ink.fillStyle = index === 0 ? colours.source : index % 2 ? colours.let : colours.held;
    ink.fillRect(left + index * wide + 1, floor - tall(level), Math.max(wide - 3, 1), tall(level));
    if (wide > 13) write(ink, colours.muted, String(index + 1), left + (index + 0.5) * wide, height - 7, "center");
  });
}

/** @param {HTMLCanvasElement} canvas @param {number[]} shares percent held by each half dB from 0.5 up */
export function paintHistogram(canvas, shares) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const floor = height - 16;
  stroke(ink, colours.line, 1, [0, floor], [width, floor]);
  if (!shares.length) {
    write(ink, colours.muted, "nothing is held yet", width / 2, floor / 2, "center");
    return;
  }
  const count = Math.max(shares.length, 12);
  const most = Math.max(...shares);
  const wide = width / count;
  ink.fillStyle = colours.held;
  shares.forEach((share, index) => {
    const tall = (share / most) * (floor - 4);
    ink.fillRect(index * wide + 0.5, floor - tall, Math.max(wide - 1, 1), tall);
  });
  write(ink, colours.muted, "−0.5", 0, height - 7);
  write(ink, colours.muted, `${db((-count / 2).toFixed(0))} dB`, width, height - 7, "right");
}

/** One result of a spread: level of what comes out, and what is held hanging over it.
 * @param {HTMLCanvasElement} canvas @param {{result_db: number[], held_db: number[], let_db: number[]}} tile */
export function paintTile(canvas, tile) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const wide = width / tile.result_db.length;
  const fill = (colour, top, tall) => {
    ink.fillStyle = colour;
    ink.fillRect(top[0], top[1], Math.max(wide, 0.6), tall);
  };
  tile.result_db.forEach((level, index) => {
    const tall = Math.max(0, (level + TILE_DB) / TILE_DB) * height;
    fill(colours["source-pale"], [index * wide, height - tall], tall);
  });
  const deep = (gain) => Math.min(Math.abs(gain) / TILE_HELD_DB, 1) * height * 0.6;
  tile.held_db.forEach((gain, index) => gain < -0.05 && fill(colours.held, [index * wide, 0], deep(gain)));
  tile.let_db.forEach((gain, index) => gain > 0.05 && fill(colours.let, [index * wide, height - deep(gain)], deep(gain)));
}

/** What one band did over the part in view: held hangs from the middle, let stands on it. */
export function paintBandStrip(canvas, band) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  stroke(ink, colours.line, 1, [0, height / 2], [width, height / 2]);
  if (!band) return;
  const wide = width / band.held_db.length;
  const draw = (colour, values) => {
    ink.fillStyle = colour;
    values.forEach((gain, index) => {
      const tall = Math.min(Math.abs(gain) / 12, 1) * (height / 2);
      if (tall > 0.2) ink.fillRect(index * wide, gain < 0 ? height / 2 : height / 2 - tall, Math.max(wide, 0.6), tall);
    });
  };
  draw(colours.held, band.held_db);
  draw(colours.let, band.let_db);
}
