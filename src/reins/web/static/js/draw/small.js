// The small pictures of the bench: what attack, hold and release do to a burst, the harmonics a curve gives a tone, and
// how deep how often.

import { blank, db, palette, stroke, write } from "./paper.js";

/** @param {HTMLCanvasElement} canvas @param {{time_ms: number[], gain_db: number[], burst_ms: [number, number]}} burst */
export function paintBurst(canvas, burst) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const total = burst.time_ms[burst.time_ms.length - 1];
  const x = (ms) => 2 + (ms / total) * (width - 4);
  const low = Math.max(Math.min(...burst.gain_db, 0), -60);
  const high = Math.max(...burst.gain_db, 0);
  const span = Math.max(high - low, 3);
  const y = (gain) => 22 + ((high - Math.max(gain, low)) / span) * (height - 40);
  const lifted = high > -low;
  ink.fillStyle = colours.source;
  ink.fillRect(x(burst.burst_ms[0]), 12, x(burst.burst_ms[1]) - x(burst.burst_ms[0]), 5);
  const after = x(burst.burst_ms[1]) + 6;
  write(ink, colours.muted, "a 100 ms burst, 12 dB over", after < width - 150 ? after : width - 4, after < width - 150 ? 14 : 5, after < width - 150 ? "left" : "right");
  stroke(ink, colours.line, 1, [0, y(0)], [width, y(0)]);
  ink.fillStyle = lifted ? colours.let : colours.held;
  ink.globalAlpha = 0.25;
  ink.beginPath();
  ink.moveTo(x(0), y(0));
  burst.time_ms.forEach((ms, index) => ink.lineTo(x(ms), y(burst.gain_db[index])));
  ink.lineTo(x(total), y(0));
  ink.fill();
  ink.globalAlpha = 1;
  stroke(ink, lifted ? colours.let : colours.held, 1.75, ...burst.time_ms.map((ms, index) => [x(ms), y(burst.gain_db[index])]));
  write(ink, colours.muted, `${lifted ? "+" : ""}${db((lifted ? high : low).toFixed(1))} dB`, 2, height - 7);
  write(ink, colours.muted, total >= 1000 ? `${(total / 1000).toFixed(1)} s` : `${Math.round(total)} ms`, width - 2, height - 7, "right");
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
