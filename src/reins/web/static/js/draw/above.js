// A strip from above: thin, what leaves its chain from below, what is held hanging from the top.

import { blank, palette } from "./paper.js";

const FLOOR_DB = -60;
const HELD_SHOWN_DB = 18; // fills the height

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{frames: number, peaks_db: number[], held_db: number[]} | null} seen
 * @param {number} end frames of the session, all across
 */
export function paintAbove(canvas, seen, end) {
  const { ink, width, height } = blank(canvas);
  if (!seen) return;
  const colours = palette();
  const step = ((seen.frames / end) * width) / seen.peaks_db.length;
  const area = (colour, from, values, length) => {
    ink.fillStyle = colour;
    ink.beginPath();
    ink.moveTo(0, from);
    values.forEach((value, index) => {
      const y = from + length(value);
      ink.lineTo(index * step, y);
      ink.lineTo((index + 1) * step, y);
    });
    ink.lineTo(values.length * step, from);
    ink.fill();
  };
  area(colours.source, height, seen.peaks_db, (level) => (-height * Math.min(Math.max(level - FLOOR_DB, 0), -FLOOR_DB)) / -FLOOR_DB);
  area(colours.held, 0, seen.held_db, (gain) => (height * Math.min(-gain, HELD_SHOWN_DB)) / HELD_SHOWN_DB);
}
