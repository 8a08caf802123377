// The map: time across, frequency up, loudness as depth of ink; how strongly each band holds as colour over it.

import { blank, palette, stroke, write } from "./paper.js";
import { layout as takeLayout, paintRuler } from "./take.js";
import { frequencyText, HIGH_HZ, LOW_HZ } from "./spectrum.js";

const TICKS_HZ = [50, 100, 300, 1000, 3000, 8000];
const FAINT = 80; // codes of half a dB from -120 dB on: -80 dB and less is paper
const FULL = 200; // -20 dB and more is full ink
const FULL_HELD_DB = 6;
export const ROWS = 120; // as the server tells them, see docs/formats/live.md

const images = new WeakMap(); // of answers

const fraction = (hz) => Math.log(Math.min(Math.max(hz, LOW_HZ), HIGH_HZ) / LOW_HZ) / Math.log(HIGH_HZ / LOW_HZ);

/** The frequency and the level that a row and a code of the map stand for. */
export const mapRead = (row, code) => ({ hz: LOW_HZ * (HIGH_HZ / LOW_HZ) ** ((row + 0.5) / ROWS), db: -120 + (code - 1) / 2 });

/** Where frequencies lie in a take's picture of this size. */
export function mapPlace(width, height) {
  const place = takeLayout(width, height);
  const tall = place.bottom - place.ruler;
  return { ...place, y: (hz) => place.bottom - fraction(hz) * tall, hz: (y) => LOW_HZ * (HIGH_HZ / LOW_HZ) ** ((place.bottom - y) / tall) };
}

/** Columns of codes as a picture in the theme's ink; rows go up. */
export function mapImage(codes, rows) {
  const columns = codes.length / rows;
  const [r, g, b] = rgb(palette().ink);
  const depth = (code) => Math.min(Math.max((code - FAINT) / (FULL - FAINT), 0), 1) ** 1.3;
  // A colour for each code, as the picture's memory holds it: red, green, blue, opacity from the lowest byte up.
  const inks = Uint32Array.from({ length: 256 }, (_, code) => ((Math.round(235 * depth(code)) << 24) | (b << 16) | (g << 8) | r) >>> 0);
  const image = new ImageData(columns, rows);
  const pixels = new Uint32Array(image.data.buffer);
  for (let column = 0; column < columns; column++) {
    for (let row = 0; row < rows; row++) pixels[(rows - 1 - row) * columns + column] = inks[codes[column * rows + row]];
  }
  const made = new OffscreenCanvas(columns, rows);
  made.getContext("2d").putImageData(image, 0, 0);
  return made;
}

/** What was held and let at each time and frequency, 128 + twice the dB a byte. */
function heldImage(picture, colours) {
  const [held, let_] = [rgb(colours.held), rgb(colours.let)];
  return inked(picture, picture.held_map, colours.held, (code) => {
    const moved = (code - 128) / 2;
    return [...(moved < 0 ? held : let_), 255 * 0.85 * Math.min(Math.abs(moved) / FULL_HELD_DB, 1)];
  });
}

/** Where two sounds are both strong, and how far. */
function fightImage(fight, colours) {
  const key = rgb(colours.key);
  return inked(fight, fight.codes, colours.key, (code) => [...key, 0.8 * code]);
}

/** Bytes by column and row as a picture in such colours; made once an answer and theme. */
function inked(answer, text, theme, colour) {
  const known = images.get(answer);
  if (known?.theme === theme) return known.image;
  const colours = Array.from({ length: 256 }, (_, code) => colour(code));
  const codes = atob(text);
  const columns = codes.length / ROWS;
  const drawn = new ImageData(columns, ROWS);
  for (let index = 0; index < codes.length; index++) {
    const [column, row] = [Math.floor(index / ROWS), index % ROWS];
    drawn.data.set(colours[codes.charCodeAt(index)], 4 * ((ROWS - 1 - row) * columns + column));
  }
  const image = new OffscreenCanvas(columns, ROWS);
  image.getContext("2d").putImageData(drawn, 0, 0);
  images.set(answer, { theme, image });
  return image;
}

function rgb(colour) {
  const number = parseInt(colour.slice(1), 16);
  return [number >> 16, (number >> 8) & 255, number & 255];
}

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{start: number, frames: number, picture: object | null}} model of the take
 * @param {{tiles: {start: number, frames: number, image: OffscreenCanvas}[], regions: {gain: string, label: string, moves: boolean, span: [number, number]}[],
 *   fight: {start: number, column_frames: number, columns: number, codes: string} | null}} map
 */
export function paintMap(canvas, model, { tiles, regions, fight }) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const place = mapPlace(width, height);
  paintRuler(ink, place, colours, model);
  const x = (frame) => place.left + ((frame - model.start) / model.frames) * place.width;
  ink.save();
  ink.beginPath();
  ink.rect(place.left, place.ruler, place.width, place.bottom - place.ruler);
  ink.clip();
  for (const { start, frames, image } of tiles) ink.drawImage(image, x(start), place.ruler, x(start + frames) - x(start), place.bottom - place.ruler);
  const { picture } = model;
  const over = (image, start, frames) => ink.drawImage(image, x(start), place.ruler, x(start + frames) - x(start), place.bottom - place.ruler);
  if (picture?.held_map) over(heldImage(picture, colours), picture.start, picture.frames);
  if (fight) over(fightImage(fight, colours), fight.start, fight.columns * fight.column_frames);
  for (const { gain, moves, span: [low, high] } of regions) {
    const band = picture?.bands?.[gain];
    if (!band || !moves) continue;
    const wide = (x(picture.start + picture.frames) - x(picture.start)) / band.held_db.length;
    for (const [colour, values] of [[colours.held, band.held_db], [colours.let, band.let_db]]) {
      ink.fillStyle = colour;
      values.forEach((moved, index) => {
        ink.globalAlpha = 0.85 * Math.min(Math.abs(moved) / FULL_HELD_DB, 1);
        if (ink.globalAlpha > 0.02) ink.fillRect(x(picture.start) + index * wide, place.y(high), wide + 0.5, place.y(low) - place.y(high));
      });
    }
    ink.globalAlpha = 1;
  }
  ink.restore();
  for (const hz of TICKS_HZ) {
    stroke(ink, colours.line, 1, [place.left - 4, place.y(hz)], [place.left, place.y(hz)]);
    write(ink, colours.muted, frequencyText(hz), place.left - 7, place.y(hz), "right");
  }
  for (const { label, span } of regions) edges(ink, colours, place, label, span);
  return place;
}

/** A band's region: a bracket at the left, dotted lines across, its name on paper so that it can be read. */
function edges(ink, colours, place, label, [low, high]) {
  ink.setLineDash([2, 3]);
  for (const hz of [low, high]) stroke(ink, colours.ink, 1, [place.left, place.y(hz)], [place.left + place.width, place.y(hz)]);
  ink.setLineDash([]);
  stroke(ink, colours.ink, 3, [place.left + 1, place.y(high)], [place.left + 1, place.y(low)]);
  const middle = (place.y(low) + place.y(high)) / 2;
  ink.fillStyle = colours.sheet;
  ink.fillRect(place.left + 5, middle - 7, ink.measureText(label).width + 6, 14);
  write(ink, colours.ink, label, place.left + 8, middle);
}
