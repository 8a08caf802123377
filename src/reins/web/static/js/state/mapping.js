// @ts-check
// The map on the take: time across, frequency up; of what comes to the chain, or of what that makes.

import { mapPlace, mapRead } from "../draw/map.js";
import { Mapper } from "../mapper.js";
import { mapWords, say } from "../saying.js";
import { pointAt } from "../spectrum.js";
import { clock } from "../times.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data of the page
 */
export const mapping = (kit, state, data) => ({
  shown: false,
  of: "source", // or of what the chain makes, as it is kept

  beginMap() {
    kit.mapper = new Mapper(state.desk.session.id, kit.previews.desk, () => this.paint(), (busy) => { state.desk.drawing = busy; });
    const hand = kit.parts.take.querySelector(".take-hand");
    hand.addEventListener("dblclick", (/** @type {MouseEvent} */ event) => this.press(event));
    hand.addEventListener("pointermove", (/** @type {PointerEvent} */ event) => this.read(event));
  },
  show(shown) {
    this.shown = shown;
    state.room.placePictures();
    this.paint();
  },
  showOf(what) {
    this.of = what;
    this.paint();
  },
  /** The map of what is in view; of a take without a processor the bare map. */
  paint() {
    if (!kit.mapper) return;
    if (!this.shown || state.desk.empty) {
      if (!kit.view.model.map) return;
      kit.view.show({ map: null });
      if (kit.takeWords) say(kit.view.canvas, kit.takeWords);
      return;
    }
    const { start, frames } = kit.view.model;
    const { regions, sourceKey } = state.frequencies;
    const sound = `${state.desk.stripId} ${this.of === "result" ? `result ${state.desk.session.step}` : sourceKey}`;
    kit.view.show({ map: { tiles: kit.mapper.tiles(sound), regions, fight: state.fighting.shown ? kit.fightMap : null } });
    this.say(sound, start, frames);
    if (state.desk.hasTake) kit.mapper.ask(state.desk.stripId, this.of, sound, start, frames, kit.view.columns);
  },
  /** In words, for those who hear the page. */
  say(sound, start, frames) {
    const loudest = kit.mapper.loudest(sound, start, frames);
    if (!loudest) return;
    const time = (/** @type {number} */ frame) => clock(frame / state.desk.document.sample_rate);
    const place = { ...mapRead(loudest.row, loudest.code), time: time(loudest.frame) };
    say(kit.view.canvas, mapWords(state.desk.strip.name, this.of, place, time(start), time(start + frames)));
  },
  get place() { return mapPlace(kit.view.canvas.clientWidth, kit.view.canvas.clientHeight); },
  /** @param {MouseEvent} event */
  press(event) { if (this.shown && state.frequencies.byFrequency) state.frequencies.addBand(this.place.hz(event.offsetY)); },
  /** @param {PointerEvent} event */
  read(event) { if (this.shown) state.frequencies.reading = pointAt(data.frequencies, this.place.hz(event.offsetY)).text; },
});
