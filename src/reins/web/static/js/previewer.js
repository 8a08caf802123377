// Asks the server what the present settings do: of a long take first where it is loudest, for the figures; then for what
// is in view, then for the whole take. One request of a
// kind is under way at a time; only the newest wish waits, so a drag never queues behind itself.

import * as api from "./api.js";

const VISIBLE_MAX_S = 60; // longer views are answered from the whole take at once

const LONG_S = 45; // a take of which there are figures of an excerpt first
const SLOW_MS = 500;

export class Previewer {
  /**
   * @param {string} sessionId
   * @param {() => object | null} wish what is to be drawn now: strip, processor_id, settings, start, frames, columns,
   *   sampleRate, and as `chain` all that the picture depends on
   * @param {(answer: object) => void} draw
   * @param {(busy: boolean) => void} slow hears when an answer takes longer than a moment, and when it has come
   */
  constructor(sessionId, wish, draw, slow) {
    Object.assign(this, { sessionId, wish, draw, slow });
    this.desk = crypto.randomUUID();
    this.number = 0;
    this.answered = 0;
    this.waits = [];
  }

  /** Something may have changed: draw again unless this very picture is drawn or on its way. */
  ask() {
    const asked = JSON.stringify(this.wish(), (name, value) => (name === "settings" ? undefined : value));
    if (asked === this.asked) return;
    this.asked = asked;
    this.number += 1;
    this.wanted = true;
    this.whole?.abort();
    if (!this.busy) this.run();
  }

  /** Resolves when everything asked for so far has been drawn. */
  settled() {
    return this.busy ? new Promise((resolve) => this.waits.push(resolve)) : Promise.resolve();
  }

  async run() {
    this.busy = true;
    const waiting = setTimeout(() => this.slow(true), SLOW_MS);
    while (this.wanted) {
      this.wanted = false;
      const wish = this.wish();
      if (!wish) continue;
      const number = this.number;
      try {
        if (wish.processor_id && wish.end / wish.sampleRate > LONG_S) await this.fetch(wish, number, { excerpt: true });
        if (!this.wanted && wish.frames / wish.sampleRate <= VISIBLE_MAX_S) await this.fetch(wish, number, {});
        if (!this.wanted) await this.fetch(wish, number, { whole: true });
      } catch (error) {
        // A newer change has stopped this one (409), or the server is away: what is drawn stays.
        if (!this.wanted) this.asked = null;
        if (!api.overtaken(error) && !(error instanceof api.ApiError)) throw error;
      }
    }
    this.busy = false;
    clearTimeout(waiting);
    this.slow(false);
    this.waits.splice(0).forEach((resolve) => resolve());
  }

  async fetch(wish, number, { whole = false, excerpt = false }) {
    const { strip, sampleRate: _, chain: __, end: ___, ...body } = wish;
    if (whole) this.whole = new AbortController();
    const answer = await api.preview(this.sessionId, strip, { ...body, desk: this.desk, number, whole, ...(excerpt ? { excerpt, columns: 1 } : {}) }, whole ? this.whole.signal : undefined);
    this.answered = number;
    this.draw({ ...answer, strip, start: wish.start, frames: wish.frames });
  }
}
