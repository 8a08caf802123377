// The take: level in dB over time. Source pale, result as an ink line, what is held hanging from the top, what is let
// standing up from the floor of the same strip.

import { extent } from "../bends.js";
import { lines, USUAL } from "../levels.js";
import { placed } from "../values.js";
import { blank, db, palette, stroke, write } from "./paper.js";

export const LEFT = 38;
export const RIGHT = 10;
const RULER = 22;
const FOOT = 6;
const STRIP = 0.23; // of the height, for what is held
const STATE_BAND = 8;
const RIBBON = 16;
const DENSITIES = [0, 0.3, 0.6, 1]; // of nobody, body, hits, peaks

/** Where things are on a canvas of this size. @param {import("../levels.js").Levels} levels */
export function layout(width, height, levels = USUAL) {
  const room = height - RULER - FOOT;
  const zero = RULER + STRIP * room; // where levels begin
  const perDb = ((1 - STRIP) * room) / (levels.top - levels.floor);
  return {
    left: LEFT, width: width - LEFT - RIGHT, ruler: RULER, zero, perDb, perHeld: (STRIP * room) / levels.held, bottom: height - FOOT, levels,
    y: (level) => zero + Math.min(Math.max(levels.top - level, 0), levels.top - levels.floor) * perDb,
    level: (y) => levels.top - (y - zero) / perDb,
  };
}

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{start: number, frames: number, sampleRate: number, tempoBpm: number, beatsPerBar: number, end: number,
 *   loop: {on: boolean, start_frame: number, end_frame: number}, picture: object | null, thresholdDb: number | null, closingDb: number | null}} model
 */
export function paintTake(canvas, model) {
  const { ink, width, height } = blank(canvas);
  const colours = palette();
  const place = layout(width, height, model.levels);
  grid(ink, place, colours);
  paintRuler(ink, place, colours, model);
  if (model.rough && !covers(model)) rough(ink, place, colours, model);
  if (model.picture) envelopes(ink, place, colours, model);
  if (model.follow) follows(ink, place, colours, model);
  if (model.closingDb != null) closing(ink, place, colours, model.closingDb);
  stroke(ink, colours.ink, 1, [place.left, place.zero], [place.left + place.width, place.zero]);
}

const covers = ({ picture, start, frames, end }) =>
  picture && picture.start <= start && picture.start + picture.frames >= Math.min(start + frames, end);

/** The source as the overview has it, until the picture of this view is there. */
function rough(ink, place, colours, model) {
  const { overview_db: levels, frames } = model.rough;
  ink.save();
  ink.beginPath();
  ink.rect(place.left, 0, place.width, place.bottom);
  ink.clip();
  fill(ink, colours["source-pale"], (index) => across(place, model, (index / levels.length) * frames), levels.map(place.y), () => place.bottom);
  ink.restore();
}

/** Bars and the loop along the top. */
export function paintRuler(ink, place, colours, model) {
  bars(ink, place, colours, model);
  loopBand(ink, place, colours, model);
}

/** Where a gate closes: below where it opens, dashed. */
function closing(ink, place, colours, level) {
  ink.setLineDash([6, 4]);
  stroke(ink, colours.held, 1.5, [place.left, place.y(level)], [place.left + place.width, place.y(level)]);
  ink.setLineDash([]);
}

function grid(ink, place, colours) {
  for (const level of lines(place.levels, place.perDb)) {
    const y = place.y(level);
    stroke(ink, colours.line, 1, [place.left, y], [place.left + place.width, y]);
    write(ink, colours.muted, db(level), place.left - 7, Math.min(y, place.bottom - 5), "right");
  }
  const strip = place.zero - place.ruler;
  const thirds = strip > 40 ? [1, 2] : strip > 24 ? [1.5] : [];
  for (const held of thirds.map((third) => (third * place.levels.held) / 3)) {
    const y = place.ruler + held * place.perHeld;
    ink.setLineDash([2, 4]);
    stroke(ink, colours.line, 1, [place.left, y], [place.left + place.width, y]);
    ink.setLineDash([]);
    write(ink, colours.held, db(-held), place.left - 7, y, "right");
  }
}

/** Frames of a bar, and where a frame lies across the picture. */
export const barFrames = ({ sampleRate, tempoBpm, beatsPerBar }) => (sampleRate * 60 * beatsPerBar) / tempoBpm;
const across = (place, model, frame) => place.left + ((frame - model.start) / model.frames) * place.width;

function bars(ink, place, colours, model) {
  const bar = barFrames(model);
  const wide = (bar / model.frames) * place.width;
  const every = [1, 2, 4, 8, 16, 32, 64, 128].find((n) => n * wide > 34) ?? 256;
  const beats = wide / model.beatsPerBar > 26;
  for (let index = Math.floor(model.start / bar); index * bar <= model.start + model.frames; index++) {
    const x = across(place, model, index * bar);
    if (x >= place.left - 1 && index % every === 0) {
      stroke(ink, colours.line, 1, [x, 4], [x, place.bottom]);
      if (x < place.left + place.width - 16) write(ink, colours.muted, String(index + 1), x + 4, 11);
    }
    for (let beat = 1; beats && beat < model.beatsPerBar; beat++) {
      const at = across(place, model, (index + beat / model.beatsPerBar) * bar);
      if (at > place.left) stroke(ink, colours.line, 1, [at, 16], [at, place.ruler]);
    }
  }
}

function loopBand(ink, place, colours, { loop, ...model }) {
  if (loop.end_frame <= loop.start_frame) return;
  const from = Math.max(place.left, across(place, model, loop.start_frame));
  const to = Math.min(place.left + place.width, across(place, model, loop.end_frame));
  if (to <= from) return;
  ink.globalAlpha = loop.on ? 1 : 0.35;
  ink.fillStyle = colours.ink;
  ink.fillRect(from, 1, to - from, 4);
  ink.globalAlpha = loop.on ? 0.05 : 0;
  ink.fillRect(from, place.ruler, to - from, place.bottom - place.ruler);
  ink.globalAlpha = 1;
}

function envelopes(ink, place, colours, model) {
  const { picture } = model;
  const step = place.width / picture.source_db.length;
  // A picture drawn for an earlier view is stretched to where it belongs until the new one is there.
  const x0 = across(place, model, picture.start);
  const scale = ((picture.frames / model.frames) * place.width) / (step * picture.source_db.length);
  const x = (index) => x0 + index * step * scale;
  ink.save();
  ink.beginPath();
  ink.rect(place.left, 0, place.width, place.bottom);
  ink.clip();
  const source = picture.before_db ?? picture.source_db; // what comes to the processor chosen, the raw take behind it
  const result = picture.after_db ?? picture.result_db;
  ink.globalAlpha = picture.before_db ? 0.45 : 1;
  fill(ink, colours["source-pale"], x, picture.source_db.map(place.y), () => place.bottom);
  ink.globalAlpha = 1;
  if (picture.before_db) {
    fill(ink, colours["source-pale"], x, source.map(place.y), () => place.bottom);
    stroke(ink, colours.source, 1, ...source.map((level, index) => [x(index + 0.5), place.y(level)]));
  }
  if (picture.key_db) {
    ink.setLineDash([4, 3]);
    stroke(ink, colours.key, 1.25, ...picture.key_db.map((level, index) => [x(index + 0.5), place.y(level)]));
    ink.setLineDash([]);
  }
  ink.globalAlpha = 0.4;
  const lost = source.map((level, index) => Math.max(level, result[index]));
  fill(ink, colours.held, x, lost.map(place.y), (index) => place.y(Math.min(result[index], lost[index])));
  ink.globalAlpha = 1;
  stroke(ink, colours.ink, 1.25, ...result.map((level, index) => [x(index + 0.5), place.y(level)]));
  fill(ink, colours.held, x, picture.held_db.map((held) => Math.min(place.ruler - held * place.perHeld, place.zero)), () => place.ruler);
  fill(ink, colours.let, x, picture.let_db.map((given) => Math.max(place.zero - given * place.perHeld, place.ruler)), () => place.zero);
  if (picture.states) states(ink, place, colours, x, picture.states);
  if (picture.ribbon) ribbon(ink, place, colours, x, picture.ribbon);
  ink.restore();
}

/** What a gate does, as a band along the foot: open filled, holding half as high, closing a slope's worth of hatching. */
function states(ink, place, colours, x, row) {
  row.forEach((state, index) => {
    if (!state) return;
    ink.fillStyle = state === 3 ? colours.held : colours.let;
    const tall = { 1: STATE_BAND, 2: STATE_BAND / 2, 3: 2 }[state];
    ink.fillRect(x(index), place.bottom - tall, x(index + 1) - x(index) + 0.5, tall);
  });
}

/** What each of several detectors hears, as lines, and along the foot who is in charge: one ink, the quicker the denser. */
function ribbon(ink, place, colours, x, { in_charge: whose, heard_db: heard }) {
  Object.values(heard).forEach((row, index) => {
    ink.globalAlpha = DENSITIES[3 - index];
    stroke(ink, colours.key, 1 + index / 2, ...row.map((level, column) => [x(column + 0.5), place.y(level)]));
  });
  ink.globalAlpha = 1;
  ink.fillStyle = colours.sheet;
  ink.fillRect(place.left, place.bottom - RIBBON, place.width, RIBBON);
  ink.fillStyle = colours.key;
  whose.forEach((who, index) => {
    ink.globalAlpha = DENSITIES[who];
    if (who) ink.fillRect(x(index), place.bottom - RIBBON + 1, x(index + 1) - x(index) + 0.5, RIBBON - 1);
  });
  ink.globalAlpha = 1;
}

/** The area between an edge (y per column) and a base. */
function fill(ink, colour, x, edge, base) {
  ink.fillStyle = colour;
  ink.beginPath();
  edge.forEach((y, index) => ink.lineTo(x(index + 0.5), y));
  for (let index = edge.length - 1; index >= 0; index--) ink.lineTo(x(index + 0.5), base(index));
  ink.fill();
}

/** The level of a key that a rein follows, its floor and ceiling, and the value it makes as a ribbon along the foot. */
function follows(ink, place, colours, model) {
  const { follow } = model;
  ink.save();
  ink.beginPath();
  ink.rect(place.left, 0, place.width, place.bottom);
  ink.clip();
  for (const level of [follow.floor, follow.ceiling]) stroke(ink, colours.key, 1.5, [place.left, place.y(level)], [place.left + place.width, place.y(level)]);
  if (follow.key_db) {
    const x = (index) => across(place, model, follow.start + (index / follow.key_db.length) * follow.frames);
    ink.setLineDash([4, 3]);
    stroke(ink, colours.key, 1.25, ...follow.key_db.map((level, index) => [x(index + 0.5), place.y(level)]));
    ink.setLineDash([]);
    ink.fillStyle = colours.sheet;
    ink.fillRect(place.left, place.bottom - RIBBON, place.width, RIBBON);
    ink.globalAlpha = 0.6;
    fill(ink, colours.key, x, follow.value.map((value) => place.bottom - value * RIBBON), () => place.bottom);
    ink.globalAlpha = 1;
  }
  ink.restore();
}

/**
 * Where values of a drawn line lie: dB about the values there are, all else over the setting's whole range.
 * @param {object} place @param {{setting: object, points: number[][], rest: number}} drawn
 */
export function linePlace(place, { setting, points, rest }) {
  const [top, bottom] = [place.zero, place.bottom - 4];
  let [low, high] = [setting.low, setting.high];
  if (setting.unit === "dB") {
    const [least, most] = extent(points.map((point) => point[1]));
    low = Math.max(low, Math.min(rest, least) - 12);
    high = Math.min(high, Math.max(rest, most) + 6);
  }
  const own = { ...setting, low: setting.scale === "log" && low === 0 ? setting.least : low, high };
  return {
    low: own.low, high, y: (value) => bottom - placed(Math.max(own.low, value), own) * (bottom - top),
    value: (y) => rawAt((bottom - y) / (bottom - top), own),
  };
}

const rawAt = (p, { low, high, scale }) => (scale === "log" ? low * (high / low) ** Math.min(1, Math.max(0, p)) : low + Math.min(1, Math.max(0, p)) * (high - low));

/** Where a frame lies across the picture in CSS pixels, or null when it is out of view. */
export function placeOf(place, model, frame) {
  const x = across(place, model, frame);
  return x < place.left || x > place.left + place.width ? null : x;
}

/** The frame under a place across the picture. */
export const frameAt = (place, model, x) => model.start + ((x - place.left) / place.width) * model.frames;
