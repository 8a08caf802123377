// @ts-check
// The stations of the chain while it plays: what each takes or gives now, and whether a gate is open.

import { putStyle, putText } from "./put.js";

/** @param {HTMLElement} station @param {{gains: Record<string, number>, louder_lu?: Record<string, number>} | null} meters null while nothing sounds */
export function meterStation(station, meters) {
  const [told, held] = [".station-gain", ".station-held"].map((part) => /** @type {HTMLElement} */ (station.querySelector(part)));
  const gain = meters?.gains[station.dataset.processor ?? ""] ?? 0;
  const moved = Math.abs(gain) > 0.05;
  const awaited = station.dataset.awaited ? "getting ready" : "";
  const said = station.dataset.opens === "true" && meters && !moved ? "● open" : awaited;
  putText(told, moved ? `${gain > 0 ? "+" : "−"}${Math.min(Math.abs(gain), 99).toFixed(1)} dB` : said);
  putStyle(held, "width", `${Math.round(Math.min(Math.abs(gain) / 24, 1) * 100)}%`);
  const lu = meters?.louder_lu?.[station.dataset.processor ?? ""];
  const louder = /** @type {HTMLElement} */ (station.querySelector(".station-lu"));
  putText(louder, typeof lu === "number" ? `${lu < 0 ? "−" : "+"}${Math.abs(lu).toFixed(1)} LU` : "");
  if (station.classList.contains("is-sounding") !== Boolean(meters)) station.classList.toggle("is-sounding");
  const given = gain > 0.05 || said !== "";
  if (station.classList.contains("is-let") !== given) station.classList.toggle("is-let", given);
}
