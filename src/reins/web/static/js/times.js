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
