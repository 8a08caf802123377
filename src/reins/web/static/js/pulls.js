// The handle by which a band of the spectrum is pulled: as far as it may move, and, from rest, so that it begins to.

import { spoken } from "./values.js";

const PULL_PX = 26; // from a peg to what pulls it, at least

/** Settings by path of a band that is pulled by so many dB; one that is still begins to move the way it is pulled. */
export function pulled({ low, high }, index, band, db) {
  const still = band.motion === "none" || band.motion === undefined;
  const up = still ? db > 0 : band.motion === "expand";
  const reach = still ? Math.abs(db) : band.range_db + (up ? db : -db);
  const range = [`bands.${index}.range_db`, Math.min(high, Math.max(low, Math.round(2 * reach) / 2))];
  return still ? [[`bands.${index}.motion`, up ? "expand" : "compress"], range] : [range];
}

/** Of the one chosen band, the handle: it stands as far off as the band may move. */
export function pullsOf(spectrum) {
  const { chosen, settings, shapes, place, to } = spectrum;
  if (chosen.length !== 1 || !settings.bands?.[0] || !("motion" in settings.bands[0])) return [];
  const [index] = chosen;
  const peg = shapes.pegs(settings)[index];
  if (!peg || !peg.band.on || peg.band.motion === "curve" || peg.band.motion === "spare") return [];
  const { band, hz, gain, label } = peg;
  const field = spectrum.field("bands.0.range_db");
  const moves = band.motion !== "none";
  const reach = moves ? Math.abs(place.gainY(gain - band.range_db) - place.gainY(gain)) : 0;
  const off = (band.motion === "expand" ? -1 : 1) * Math.max(PULL_PX, reach);
  const by = (db) => Object.fromEntries(pulled(field, index, band, db));
  return [{
    key: "pull", className: "pull", text: "", x: place.x(hz), y: Math.min(place.bottom - 6, Math.max(place.top + 6, place.gainY(gain) + off)),
    said: moves ? `Band ${label} moves by ${spoken(band.range_db, field)} at most` : `Band ${label} is still: pull to have it move`,
    marks: moves ? "is-moving" : "",
    press: (event) => spectrum.drag(event, (_, dy) => by(place.gain(dy) - place.gain(0))),
    keys: { ArrowDown: (fine) => to.keep(by(fine ? -0.5 : -1)), ArrowUp: (fine) => to.keep(by(fine ? 0.5 : 1)) },
  }];
}
