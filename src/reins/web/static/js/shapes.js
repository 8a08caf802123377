// @ts-check
// What of a processor's settings is drawn on the spectrum and the map, and moved there: pegs, edges, thresholds, regions.

/** The names of all outside keys a processor and its bands follow. */
export const keysOf = ({ key, bands }) => [key, ...(bands ?? []).map((band) => band.key)].flatMap((one) => (one ? namesOf(one) : []));
/** The names of the strips' sounds a key listens to. */
export const namesOf = (key) => [key.source, ...(key.also ?? []).map((one) => one.source)].filter((name) => name !== "self" && name !== "before");
/** Whether a key's name means the hits of a take, instead of its sound. @param {string} name */
export const isHits = (name) => /(^|\/)hits(:|$)/.test(name);
/** How many ms before its hits a key is followed. @param {string} name */
export const aheadOf = (name) => (isHits(name) ? Number(name.split(":")[1] ?? 0) : 0);
/** The same hits, so many ms ahead. @param {string} name @param {number} ms */
export const hitsAhead = (name, ms) => `${name.split(":")[0]}${ms > 0 ? `:${ms}` : ""}`;
/** The names of all keys that the reins of a strip follow. */
export const keysOfReins = (reins) => (reins ?? []).filter(({ on, by }) => on && by.kind === "key").flatMap(({ by }) => namesOf(by.key));

const HALF = (band) => 2 ** (1 / (2 * Math.max(band.q, 0.3)));
const LOW = 20;
const HIGH = 20000;

/** Lowest and highest frequency of what an EQ band covers. */
function reach(band) {
  if (band.shape === "low_shelf") return [LOW, band.freq_hz];
  if (band.shape === "high_shelf") return [band.freq_hz, HIGH];
  return [Math.max(LOW, band.freq_hz / HALF(band)), Math.min(HIGH, band.freq_hz * HALF(band))];
}

const BELLS = {
  /** Pegs: what each moves by frequency and gain. */
  pegs: ({ bands }) => bands.map((band, index) => ({ name: `bands.${index}`, label: String(index + 1), hz: band.freq_hz, gain: band.gain_db, band })),
  /** The cuts that are on; low and high, where a line has them, are how far its neighbours let it go. */
  lines: ({ low_cut_hz: low, high_cut_hz: high }) => [
    { setting: "low_cut_hz", label: "Low cut", hz: low },
    { setting: "high_cut_hz", label: "High cut", hz: high },
  ].filter(({ hz }) => hz > 0),
  regions: ({ bands }) => bands.map((band, index) => ({ gain: `band${index + 1}.gain_db`, label: String(index + 1), moves: band.on && band.motion !== "none", span: reach(band) })),
  thresholds(settings) {
    const { bands, rest } = settings;
    const own = bands
      .map((band, index) => ({ setting: `bands.${index}.threshold_db`, gain: `band${index + 1}.gain_db`, label: `band ${index + 1}`, db: band.threshold_db, span: reach(band), band }))
      .filter(({ band }) => band.on && (band.motion === "compress" || band.motion === "expand"))
      .sort((a, b) => a.span[0] - b.span[0])
      .map(({ span: [from, to], ...more }) => ({ ...more, from, to }));
    if (!rest.on) return own;
    const gaps = [];
    let at = LOW;
    for (const { from, to } of [...own, { from: HIGH, to: HIGH }]) {
      if (from > at) gaps.push({ setting: "rest.threshold_db", gain: "rest.gain_db", label: "the rest", db: rest.threshold_db, from: at, to: from });
      at = Math.max(at, to);
    }
    return [...own, ...gaps].sort((a, b) => a.from - b.from);
  },
};

const LEANS = [["lean_lows_db", 100, "lows"], ["lean_middle_db", 1000, "middle"], ["lean_highs_db", 8000, "highs"]];

/** A line through points of frequency and level, straight over log frequency, flat beyond. @param {number[][]} points @param {number} hz */
export function levelAt(points, hz) {
  const after = points.findIndex(([at]) => at >= hz);
  if (after <= 0) return (after ? points[points.length - 1] : points[0])[1];
  const [[low, from], [high, to]] = [points[after - 1], points[after]];
  return from + ((to - from) * Math.log(hz / low)) / Math.log(high / low);
}

/** How far the line over a multiband's bands leans up at a frequency. */
const leanAt = (settings, hz) => levelAt(LEANS.map(([name, at]) => [at, settings[name]]), hz);

const SPLITS = {
  pegs: () => [],
  leans: (settings) => LEANS.map(([setting, hz, label]) => ({ setting, hz, label, db: settings[setting] })),
  lines: ({ crossovers_hz: all }) => all.map((hz, index) => ({
    setting: `crossovers_hz.${index}`, label: `Crossover ${index + 1}`, hz,
    low: all[index - 1] && 1.27 * all[index - 1], high: all[index + 1] && all[index + 1] / 1.27,
  })),
  regions(settings) {
    return settings.bands.map((band, index) => ({ gain: `band${index + 1}.gain_db`, label: String(index + 1), moves: band.on, span: this.span(settings, index) }));
  },
  span: ({ crossovers_hz: all }, index) => [all[index - 1] ?? LOW, all[index] ?? HIGH],
  thresholds(settings) {
    return settings.bands.map((band, index) => {
      const [from, to] = this.span(settings, index);
      const by = band.direction === "compress" ? leanAt(settings, Math.sqrt(from * to)) : 0;
      return { setting: `bands.${index}.threshold_db`, gain: `band${index + 1}.gain_db`, label: `band ${index + 1}`, db: band.threshold_db - by, by, from, to };
    });
  },
};

const SPAN = {
  pegs: () => [],
  bodies: ({ low_hz: low, high_hz: high }) => [{ names: ["low_hz", "high_hz"], gain: "gain_db", label: "The band", low, high }],
  lines: ({ low_hz: low, high_hz: high }) => [
    { setting: "low_hz", label: "From", hz: low, high: high / 1.06 },
    { setting: "high_hz", label: "To", hz: high, low: low * 1.06 },
  ],
  regions: ({ low_hz: low, high_hz: high }) => [{ gain: "gain_db", label: "watched", moves: true, span: [low, high] }],
  thresholds: ({ low_hz: from, high_hz: to, threshold_db: db, relative }) => (relative ? [] : [{ setting: "threshold_db", gain: "gain_db", label: "the band", db, from, to }]),
};

const NONE = { pegs: () => [], lines: () => [], regions: () => [], thresholds: () => [] };

const CORNERS = {
  ...NONE,
  /** The cuts that are on, and the corners of tilt and shelves that do something. */
  lines: (settings) => [
    ["low_cut_hz", "Low cut", settings.low_cut_hz], ["high_cut_hz", "High cut", settings.high_cut_hz], ["tilt_hz", "Tilt", settings.tilt_db],
    ["low_shelf_hz", "Low shelf", settings.low_shelf_db], ["high_shelf_hz", "High shelf", settings.high_shelf_db],
  ].filter(([, , acts]) => acts).map(([setting, label]) => ({ setting, label, hz: settings[setting] })),
};

const DRAWN = {
  ...NONE,
  /** The edges that are set. */
  lines: ({ from_hz: from, to_hz: to }) => [
    { setting: "from_hz", label: "From", hz: from },
    { setting: "to_hz", label: "To", hz: to },
  ].filter(({ hz }) => hz > 0),
};

/** What can be drawn of a processor whose settings cover the frequencies so. @param {"bells" | "splits" | "span" | "corners" | "drawn" | null | undefined} covers */
export const shapesOf = (covers) => ({ bells: BELLS, splits: SPLITS, span: SPAN, corners: CORNERS, drawn: DRAWN })[covers] ?? NONE;
