// @ts-check
// How a place in the session is written.

/** Bars, beats and sixteenths, counted from one. */
export function bars(frame, { sample_rate: rate, tempo_bpm: tempo, beats_per_bar: beats }) {
  const sixteenth = Math.floor((frame / rate / 60) * tempo * 4 + 1e-6);
  return `${Math.floor(sixteenth / (4 * beats)) + 1}.${(Math.floor(sixteenth / 4) % beats) + 1}.${(sixteenth % 4) + 1}`;
}

/** Minutes, seconds and hundredths. */
export function clock(seconds) {
  return `${Math.floor(seconds / 60)}:${(seconds % 60).toFixed(2).padStart(5, "0")}`;
}

const TAPS = 4; // before they are a tempo
const PAUSE_MS = 2500; // after which taps begin anew

/** Taps of a hand, in milliseconds, with one more; those before a pause are forgotten. @param {number[]} taps @param {number} now */
export const tapped = (taps, now) => [...(taps.length && now - taps[taps.length - 1] > PAUSE_MS ? [] : taps.slice(-15)), now];

/** The tempo of taps, to a tenth; null for too few. @param {number[]} taps */
export function tempoOf(taps) {
  if (taps.length < TAPS) return null;
  const bpm = (60000 * (taps.length - 1)) / (taps[taps.length - 1] - taps[0]);
  return bpm >= 20 && bpm <= 400 ? Math.round(bpm * 10) / 10 : null;
}
