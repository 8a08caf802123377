// @ts-check
// How numbers are written, read and laid along a line. Limits, units, scales and steps come from the server.

/** @typedef {{name: string, label: string, unit: string, low: number, high: number, default: number, step: number, scale: string, help: string}} Setting */

const MINUS = "−";

/** @param {number} value @param {Setting} setting @returns {[string, string]} figure and unit */
export function written(value, setting) {
  const { unit } = setting;
  if (unit === "Hz" && value === 0) return ["off", ""];
  if (unit === "Hz" && value >= 1000) return [(value / 1000).toFixed(value >= 10000 ? 1 : 2), "kHz"];
  if (unit === "ms" && value >= 1000) return [(value / 1000).toFixed(2), "s"];
  const digits = { dB: 1, "%": 0, Hz: 0, ":1": 2, ms: value < 100 ? 1 : 0, "µs": 0, bpm: 0, beats: 0 }[unit] ?? 2;
  const figure = value.toFixed(digits).replace("-", MINUS).replace(/^−(0(\.0+)?)$/, "$1");
  return [figure, unit === ":1" ? ": 1" : unit];
}

/** @param {number} value @param {Setting} setting */
export const spoken = (value, setting) => written(value, setting).join(" ").trim();

/** @param {Setting} setting */
export const allowed = (setting) => `Allowed: ${spoken(setting.low, { ...setting, unit: setting.unit })} to ${spoken(setting.high, setting)}`;

const NOTE = /^(\d+)\s*\/\s*(\d+)\s*([.t]?)$/;
const NUMBER = /^([+-]?(?:\d+\.?\d*|\.\d+))\s*(k|khz|hz|us|µs|ms|s|db|%|bpm|beats|:\s*1)?$/;
const FACTORS = { "µs": { us: 1, "µs": 1, ms: 1000, "": 1 }, ms: { s: 1000, ms: 1, "": 1 }, s: { s: 1, ms: 0.001, "": 1 }, Hz: { k: 1000, khz: 1000, hz: 1, "": 1 } };
const OWN = { dB: ["db"], "%": ["%"], ":1": [":1", ": 1"], bpm: ["bpm"], beats: ["beats"] };

/**
 * Reads what a person typed: "5k", "120 ms", "0.12 s", "1/8" of a bar of four, "-18 dB", "off".
 * @param {string} text @param {Setting} setting @param {number} tempoBpm
 * @returns {number} the value; throws an Error that says what is allowed
 */
export function parsed(text, setting, tempoBpm) {
  const plain = text.trim().toLowerCase().replace(MINUS, "-").replace(",", ".");
  const value = plain === "off" && setting.low === 0 ? 0 : noteLength(plain, setting, tempoBpm) ?? quantity(plain, setting);
  if (value === null || Number.isNaN(value) || value < setting.low || value > setting.high) throw new Error(allowed(setting));
  return value;
}

function noteLength(plain, setting, tempoBpm) {
  const note = setting.unit === "ms" && NOTE.exec(plain);
  if (!note) return null;
  const stretch = { ".": 1.5, t: 2 / 3, "": 1 }[note[3]];
  return ((4 * 60000) / tempoBpm) * (Number(note[1]) / Number(note[2])) * stretch;
}

function quantity(plain, setting) {
  const match = NUMBER.exec(plain);
  if (!match) return null;
  const unit = (match[2] || "").replace(/\s+/g, "");
  const factors = FACTORS[setting.unit];
  if (factors) return factors[unit] === undefined ? null : Number(match[1]) * factors[unit];
  return unit === "" || (OWN[setting.unit] || []).includes(unit) ? Number(match[1]) : null;
}

const bend = (setting) => setting.high / 1000; // where a log line that starts at 0 turns from straight to log

/** Place of a value along its line, 0 to 1. @param {number} value @param {Setting} setting */
export function placed(value, setting) {
  const { low, high, scale } = setting;
  if (scale !== "log") return (value - low) / (high - low);
  if (low > 0) return Math.log(value / low) / Math.log(high / low);
  return Math.log1p(value / bend(setting)) / Math.log1p(high / bend(setting));
}

/** Value at a place along the line, rounded to figures that make sense. @param {number} place 0 to 1 @param {Setting} setting */
export function valueAt(place, setting) {
  const { low, high, scale, step } = setting;
  const p = Math.min(1, Math.max(0, place));
  if (scale !== "log") return clean(Math.round((low + p * (high - low)) / (step / 5)) * (step / 5), setting);
  const raw = low > 0 ? low * (high / low) ** p : bend(setting) * Math.expm1(p * Math.log1p(high / bend(setting)));
  return clean(Number(raw.toPrecision(3)), setting);
}

/** One step up or down. @param {number} value @param {number} direction @param {boolean} fine @param {Setting} setting */
export function nudged(value, direction, fine, setting) {
  if (setting.scale === "log") return valueAt(placed(value, setting) + direction * (fine ? 0.002 : 0.02), setting);
  return clean(value + direction * setting.step * (fine ? 0.1 : 1), setting);
}

const clean = (value, { low, high }) => Math.min(high, Math.max(low, Number(value.toFixed(4))));
