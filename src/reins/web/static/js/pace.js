// @ts-check
// How often the desk draws what moves: the playhead, meters and figures.

import { hasCard } from "./card.js";

const CALM = matchMedia("(prefers-reduced-motion: reduce)").matches;
// With a graphics card what moves is drawn with every picture of the screen; without, each costs the processor that
// makes the sound, and 15 are enough for a playhead that goes from pixel to pixel. Who wants calm gets less.
const HAS_CARD = hasCard();
const DRAWN_MS = CALM ? 250 : HAS_CARD ? 0 : 68;
const FIGURES_MS = HAS_CARD ? 50 : 100;
const PATIENCE_MS = 120; // sound goes first: while little of it is ahead the screen waits, though never for long
const REST_MS = 250; // while nothing sounds and no hand is at the desk
const AWAKE_MS = 500; // since the last touch
const TOUCHES = ["pointerdown", "pointermove", "click", "keydown", "wheel", "resize", "hashchange"];

/**
 * Draw again and again; figures, costlier to lay out than a playhead, less often.
 * @param {(figures: boolean) => void} draw @param {import("./live.js").Live} live
 */
export function keepDrawing(draw, live) {
  let [figuresAt, touchedAt, waiting, resting] = [0, 0, 0, false];
  // No picture of the screen is asked for before there is something to draw: each costs, whatever is on it.
  const next = () => {
    resting = false;
    requestAnimationFrame(tick);
  };
  function tick(now) {
    const figures = now - figuresAt > FIGURES_MS;
    if (figures) figuresAt = now;
    draw(figures);
    resting = !live.playing && now - touchedAt > AWAKE_MS;
    const pause = resting ? REST_MS : live.short() ? PATIENCE_MS : DRAWN_MS;
    if (pause) waiting = setTimeout(next, pause - 8);
    else next();
  }
  const touch = () => {
    touchedAt = performance.now();
    if (!resting) return;
    clearTimeout(waiting);
    next();
  };
  for (const kind of TOUCHES) window.addEventListener(kind, touch, { capture: true, passive: true });
  live.addEventListener("state", touch);
  next();
}
