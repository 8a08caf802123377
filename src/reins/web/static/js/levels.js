// @ts-check
// The level axis that take, overview and in-out picture share: from where to where, and how deep what is held is drawn.

/** @typedef {{top: number, floor: number, held: number}} Levels in dB */

const LOWEST_DB = -100;
const LEAST_SPAN_DB = 18;
const STEP_DB = 6;
const HELD_STEPS_DB = [3, 6, 12, 18, 36];

/** @type {Levels} */
export const USUAL = Object.freeze({ top: 0, floor: -60, held: 18 });

const between = (low, high, value) => Math.min(high, Math.max(low, value));

/** The floor a step deeper (1) or higher (-1). @param {Levels} levels @param {number} direction */
export const deeper = (levels, direction) => ({ ...levels, floor: between(LOWEST_DB, levels.top - LEAST_SPAN_DB, levels.floor - direction * STEP_DB) });

/** All of it moved by so many dB. @param {Levels} levels @param {number} db */
export function shifted(levels, db) {
  const span = levels.top - levels.floor;
  const top = between(LOWEST_DB + span, 0, Math.round(levels.top + db));
  return { ...levels, top, floor: top - span };
}

/** What is held drawn deeper (1) or less deep (-1). @param {Levels} levels @param {number} direction */
export function magnified(levels, direction) {
  const at = HELD_STEPS_DB.indexOf(levels.held);
  return { ...levels, held: HELD_STEPS_DB[between(0, HELD_STEPS_DB.length - 1, at - direction)] };
}

/** Levels that were kept, or the usual ones where they are none. @param {any} kept @returns {Levels} */
export function readLevels(kept) {
  const fits = kept && HELD_STEPS_DB.includes(kept.held) && kept.top <= 0 && kept.floor >= LOWEST_DB && kept.top - kept.floor >= LEAST_SPAN_DB;
  return fits ? { top: kept.top, floor: kept.floor, held: kept.held } : USUAL;
}

/** The levels at which lines are drawn: every so many dB that they stand apart. @param {Levels} levels @param {number} perDb pixels */
export function lines({ top, floor }, perDb) {
  const every = [3, 6, 12, 24, 48].find((db) => db * perDb >= 20) ?? 96;
  const found = [];
  for (let level = Math.floor(top / every) * every; level >= floor; level -= every) found.push(level);
  return found;
}

/** By how much a processor hears its own sound louder than it comes. @param {{input_db?: number, operating_db?: number}} settings */
export const drivenDb = (settings) => (settings.input_db ?? 0) + (settings.operating_db ?? 0);
