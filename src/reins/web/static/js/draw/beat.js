// A curve by the beat over the folded sound: all repetitions pale behind it, the sound's and a key's.

import { traced } from "../bends.js";
import { blank, palette, stroke, write } from "./paper.js";

export const EDGE = { left: 56, right: 12, top: 10, bottom: 20 };

/** Where things are on a picture of this size. */
export function beatPlace(width, height) {
  const [wide, tall] = [Math.max(1, width - EDGE.left - EDGE.right), Math.max(1, height - EDGE.top - EDGE.bottom)];
  return {
    wide, tall, left: EDGE.left, right: EDGE.left + wide, x: (at) => EDGE.left + at * wide, y: (value) => EDGE.top + (1 - value) * tall,
    at: (x) => (x - EDGE.left) / wide, value: (y) => 1 - (y - EDGE.top) / tall,
  };
}

/** @param {HTMLCanvasElement} canvas @param {{points: number[][], beats: number, grid: number, fold: object | null, ends: string[]}} model */
export function paintBeat(canvas, { points, beats, grid, fold, ends }) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const place = beatPlace(width, height);
  if (fold) {
    cloud(ink, place, colours.source, fold.source);
    if (fold.key) cloud(ink, place, colours.key, fold.key);
  }
  lines(ink, place, colours, beats, grid);
  for (const [value, word] of [[1, ends[1]], [0, ends[0]]]) {
    stroke(ink, colours.line, 1, [place.x(0), place.y(value)], [place.x(1), place.y(value)]);
    write(ink, colours.muted, word, EDGE.left - 6, place.y(value), "right");
  }
  const line = traced(points).map(([at, value]) => [place.x(at), place.y(value)]);
  ink.globalAlpha = 0.14;
  ink.fillStyle = colours.ink;
  ink.beginPath();
  ink.moveTo(place.x(0), place.y(0));
  for (const [x, y] of line) ink.lineTo(x, y);
  ink.lineTo(place.x(1), place.y(0));
  ink.fill();
  ink.globalAlpha = 1;
  stroke(ink, colours.ink, 2, ...line);
}

/** How often each column sits at each level, as depth of colour. */
function cloud(ink, place, colour, columns) {
  const wide = place.wide / columns.length;
  const tall = place.tall / columns[0].length;
  ink.fillStyle = colour;
  columns.forEach((levels, column) => levels.forEach((share, level) => {
    if (!share) return;
    ink.globalAlpha = Math.min(0.75, 0.1 + 0.9 * Math.sqrt(share / 100));
    ink.fillRect(EDGE.left + column * wide, EDGE.top + place.tall - (level + 1) * tall, wide + 0.4, tall + 0.4);
  }));
  ink.globalAlpha = 1;
}

function lines(ink, place, colours, beats, grid) {
  const steps = Math.min(128, Math.round(beats / grid));
  for (let k = 0; k <= steps; k++) {
    const at = (k * grid) / beats;
    const whole = Math.abs(k * grid - Math.round(k * grid)) < 1e-6;
    ink.globalAlpha = whole ? 1 : 0.5;
    stroke(ink, colours.line, whole ? 1.5 : 1, [place.x(at), EDGE.top], [place.x(at), EDGE.top + place.tall]);
    ink.globalAlpha = 1;
    if (whole && (steps <= 32 || (k * grid) % 4 === 0)) write(ink, colours.muted, String(Math.round(k * grid) + 1), place.x(at), EDGE.top + place.tall + 11, "center");
  }
}
