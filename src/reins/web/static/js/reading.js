// What is read at the master: loudness, range, true peak, correlation, of what is heard since play was pressed.

import { element } from "./control.js";
import { putText } from "./put.js";

const READINGS = [
  ["momentary_lufs", "now", "LUFS", "Loudness of the last 0.4 seconds (momentary, EBU Tech 3341)."],
  ["short_term_lufs", "3 s", "LUFS", "Loudness of the last 3 seconds (short-term)."],
  ["integrated_lufs", "whole", "LUFS", "Loudness since play was pressed (integrated, BS.1770)."],
  ["range_lu", "range", "LU", "How far quiet and loud passages lie apart (EBU Tech 3342)."],
  ["true_peak_dbtp", "true peak", "dB", "Highest level between the samples since play was pressed."],
  ["correlation", "L with R", "", "1: both sides alike; 0: unrelated; below: they cancel in mono."],
];

export class MasterReading {
  /** @param {HTMLElement} root */
  constructor(root) {
    this.values = READINGS.map(([name, label, unit, help]) => {
      const row = element("div", "reading", { "data-help": help, "data-reading": name });
      const [term, value] = [element("dt", ""), element("dd", "")];
      term.textContent = label;
      row.append(term, value);
      root.append(row);
      return [name, unit, value, row];
    });
    this.show(null);
  }

  /** @param {object | null} master the master's part of a meter message */
  show(master) {
    for (const [name, unit, place, row] of this.values) {
      const value = master?.[name] ?? null;
      const absent = value === null || value <= -120;
      putText(place, absent ? "–" : `${value.toFixed(name === "correlation" ? 2 : 1).replace("-", "−")} ${unit}`.trim());
      row.classList.toggle("is-over", (name === "true_peak_dbtp" && value > 0) || (name === "correlation" && value !== null && value < 0));
    }
  }
}
