// Fetches the map of the part in view, piece by piece, so that it appears progressively; keeps the pieces last seen.

import * as api from "./api.js";
import { mapImage, ROWS } from "./draw/map.js";

const PIECES = 4;
const KEPT = 24;

/** @param {Uint8Array} codes @param {number} start @param {number} perColumn */
function loudestOf(codes, start, perColumn) {
  const at = codes.reduce((best, code, index) => (code > codes[best] ? index : best), 0);
  return { code: codes[at], row: at % ROWS, frame: start + Math.floor(at / ROWS) * perColumn };
}

export class Mapper {
  /** @param {string} sessionId @param {string} desk @param {() => void} draw @param {(busy: boolean) => void} slow */
  constructor(sessionId, desk, draw, slow) {
    Object.assign(this, { sessionId, desk, draw, slow, number: 0, pieces: new Map() });
  }

  /** Pieces that may lie in view, coarser ones first. */
  tiles(sound) {
    return [...this.pieces.values()].filter((piece) => piece.sound === sound).sort((a, b) => b.frames - a.frames);
  }

  /** The loudest place of what lies in a part of a sound. @returns {{code: number, row: number, frame: number} | null} */
  loudest(sound, start, frames) {
    const inView = this.tiles(sound).filter((piece) => piece.start >= start && piece.start + piece.frames <= start + frames + 1);
    return inView.map((piece) => piece.loudest).reduce((best, one) => (best && best.code >= one.code ? best : one), null);
  }

  /** Forget what was drawn, as when the theme has changed. */
  forget() {
    this.pieces.clear();
    this.asked = null;
  }

  /** Have the part in view drawn; `sound` names what the strip's source, or result, is made of. */
  async ask(strip, what, sound, start, frames, columns) {
    const asked = `${sound} ${start} ${frames} ${columns}`;
    if (asked === this.asked) return this.busy;
    this.asked = asked;
    this.number += 1;
    this.stop?.abort();
    this.stop = new AbortController();
    this.busy = this.fetch(strip, what, sound, start, frames, columns, this.number);
    return this.busy;
  }

  async fetch(strip, what, sound, start, frames, columns, number) {
    const waiting = setTimeout(() => this.slow(true), 500);
    const piece = Math.ceil(columns / PIECES);
    try {
      for (let first = 0; first < columns && number === this.number; first += piece) {
        const count = Math.min(piece, columns - first);
        const from = Math.round(start + (first / columns) * frames);
        const length = Math.max(1, Math.round((count / columns) * frames));
        const key = `${sound} ${from} ${length} ${count}`;
        if (!this.pieces.has(key)) {
          const codes = await api.takeMap(this.sessionId, strip, { desk: this.desk, number, start: from, frames: length, columns: count, what }, this.stop.signal);
          this.pieces.set(key, { sound, start: from, frames: length, image: mapImage(codes, ROWS), loudest: loudestOf(codes, from, length / count) });
          for (const old of [...this.pieces.keys()].slice(0, Math.max(0, this.pieces.size - KEPT))) this.pieces.delete(old);
        }
        this.draw();
      }
    } catch (error) {
      if (number === this.number) this.asked = null;
      if (!api.overtaken(error) && !(error instanceof api.ApiError)) throw error;
    } finally {
      clearTimeout(waiting);
      if (number === this.number) this.slow(false);
    }
  }
}
