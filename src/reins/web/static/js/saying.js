// @ts-check
// What a picture shows, in words, for those who hear the page instead of seeing it.

/** @param {number | null | undefined} value @param {string} unit */
const figure = (value, unit = "dB") => (value == null ? "unknown" : `${value.toFixed(1).replace("-", "−")} ${unit}`);

/** Put words to a picture. @param {Element | null} picture @param {string} words */
export function say(picture, words) {
  if (picture && picture.getAttribute("aria-label") !== words) picture.setAttribute("aria-label", words);
}

/** @param {string} name of the strip @param {any} answer of the previewer, of the whole take */
export function takeWords(name, { statistics, source, result }) {
  const held = statistics?.held_pct > 0
    ? `held for ${statistics.held_pct.toFixed(0)} % of the take, usually ${figure(statistics.usual_db)}, deepest ${figure(statistics.deepest_db)}`
    : "nothing is held";
  return `${name} over time: ${held}; loudness ${figure(source?.integrated_lufs, "LUFS")} before, ${figure(result?.integrated_lufs, "LUFS")} after`;
}

/** @param {number[]} shares of depths, half a dB apart from half a dB on */
export function histogramWords(shares) {
  if (!shares.length) return "How deep, how often: nothing is held yet";
  const most = shares.indexOf(Math.max(...shares));
  return `How deep, how often: most often ${figure(-(most + 1) / 2)}, deepest ${figure(-shares.length / 2)}`;
}

/** @param {{time_ms: number[], gain_db: number[], burst_ms: [number, number]}} burst */
export function burstWords({ time_ms: times, gain_db: gains, burst_ms: [begin, end] }) {
  const far = gains.reduce((furthest, gain) => (Math.abs(gain) > Math.abs(furthest) ? gain : furthest), 0);
  const at = times[gains.indexOf(far)] ?? begin;
  const back = times.find((time, index) => time > Math.max(end, at) && Math.abs(gains[index]) < Math.abs(far) / 10);
  return `The gain while a burst of ${Math.round(end - begin)} ms comes and goes: ${figure(far)} after ${Math.round(Math.max(at - begin, 0))} ms, ${back === undefined ? "not back within the picture" : `nearly back ${Math.round(back - end)} ms after its end`}`;
}

/** @param {{in_db: number[], out_db: number[]}} curve */
export function curveWords({ in_db: into, out_db: out }) {
  const at = (/** @type {number} */ level) => out[into.reduce((best, one, index) => (Math.abs(one - level) < Math.abs(into[best] - level) ? index : best), 0)];
  return `Level out for each level in: ${[0, -12, -24, -36].map((level) => `${figure(level)} in, ${figure(at(level))} out`).join("; ")}`;
}
