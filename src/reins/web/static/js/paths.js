// @ts-check
// Dotted names of settings: "threshold_db", "key.gain_db", "bands.2.freq_hz", "crossovers_hz.0".

/** The value a path leads to. @param {any} settings @param {string} path */
export const valueAtPath = (settings, path) => path.split(".").reduce((part, key) => part[key], settings);

/** Settings with values laid over them by path; the settings stay as they were. @param {any} settings @param {Record<string, any>} over */
export function overlaid(settings, over) {
  const laid = JSON.parse(JSON.stringify(settings));
  for (const [path, value] of Object.entries(over)) {
    const parts = path.split(".");
    const last = /** @type {string} */ (parts.pop());
    parts.reduce((part, key) => part[key], laid)[last] = value;
  }
  return laid;
}
