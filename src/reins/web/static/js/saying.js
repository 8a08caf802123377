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

const SPOKEN_HZ = [60, 250, 1000, 4000, 10000];

/** @param {number} hz */
const pitch = (hz) => (hz >= 1000 ? `${(hz / 1000).toFixed(1)} kHz` : `${Math.round(hz)} Hz`);

/** Spectra of whole takes by what they are of. @param {number[]} hz @param {Record<string, number[]>} shown */
export function spectrumWords(hz, shown) {
  const at = (/** @type {number[]} */ row, /** @type {number} */ wanted) => row[hz.reduce((best, one, index) => (Math.abs(Math.log(one / wanted)) < Math.abs(Math.log(hz[best] / wanted)) ? index : best), 0)];
  const told = Object.entries(shown).filter(([, row]) => row?.length).map(([what, row]) => {
    const loudest = row.indexOf(Math.max(...row));
    return `${what} loudest at ${pitch(hz[loudest])} with ${figure(row[loudest])}; ${SPOKEN_HZ.map((one) => `${pitch(one)} ${figure(at(row, one))}`).join(", ")}`;
  });
  return told.length ? `Level at each frequency: ${told.join(". ")}` : "Level at each frequency: nothing is shown";
}

/** A part of the map. @param {string} name @param {string} of @param {{hz: number, db: number, time: string}} loudest @param {string} from @param {string} to */
export function mapWords(name, of, { hz, db, time }, from, to) {
  return `${name}, map of the ${of} from ${from} to ${to}: loudest near ${pitch(hz)} with ${figure(db)} at ${time}`;
}

/** What bending adds to a test tone. @param {{tone_db: number, tone_hz: number, db: number[]}} harmonics */
export function harmonicsWords({ tone_db: tone, tone_hz: hz, db: levels }) {
  const added = levels.slice(1, 6).map((level, index) => `harmonic ${index + 2} ${figure(level)}`);
  return `A tone of ${pitch(hz)} at ${figure(tone)}: ${added.join(", ")}`;
}
