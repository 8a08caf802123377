// @ts-check
// Room for the pictures: which stands above, how the height is shared, whether one has the whole side. Remembered.

import { rove } from "../roving.js";

const KEPT = "reins-room";
const LEAST_TAKE_PX = 140; // what the upper picture keeps, and the bench
const LEAST_BENCH_PX = 200;
const STEP_PX = 16;

/** What was kept of the room, on this machine. */
export function rememberedRoom() {
  try {
    return JSON.parse(localStorage.getItem(KEPT) ?? "{}") ?? {};
  } catch {
    return {}; // not written by us, or not allowed: begin anew
  }
}

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const room = (kit, state) => ({
  swapped: false, // the bench's picture stands above, the take on the bench
  whole: false, // what stands above has the whole side
  frozen: false, // meters, spectra and moving points stand still, to be read in peace
  heights: {}, // of the bench, as the divider was left, for benches with bands, beside the map, and without

  beginRoom() {
    const { swapped = false, whole = false, heights = {} } = rememberedRoom();
    Object.assign(this, { swapped: swapped === true, whole: whole === true, heights: heights ?? {} });
    const { work, divider } = kit.parts;
    [kit.take, kit.picture] = [work.querySelector(".take"), work.querySelector(".bench-curve")];
    kit.keepTools = rove(kit.take.querySelector(".take-head"), { selector: ".text-button:not(label), .file-entry", sideways: true, shown: true });
    kit.place = document.createComment("where the smaller picture stands");
    kit.picture.before(kit.place);
    divider.addEventListener("pointerdown", (event) => this.dragDivider(event));
    divider.addEventListener("keydown", (event) => this.stepDivider(event));
    divider.addEventListener("dblclick", () => this.setBenchHeight(null));
    kit.bench.axis = kit.view.model.levels;
    this.placePictures();
    this.sayDivider();
  },

  get roomy() { return { "is-whole": this.whole && !state.desk.empty, "is-swapped": this.isSwapped, [`is-${this.heightKind}-work`]: true }; },
  /** Without a take there is nothing to swap with. */
  get isSwapped() { return this.swapped && !state.desk.empty && !state.reins.rein && !state.spreading.open && !state.blinding.open; },
  /** A spectrum with bands is worked on: it gets more of the height, unless it stands above; beside the map less. */
  get heightKind() {
    if (state.spreading.open || state.blinding.open) return "plain";
    if (state.reins.rein && state.reins.reinKind !== "beat") return state.reins.reinKind;
    if (state.reins.rein || !state.frequencies.banded || this.isSwapped) return "plain";
    return state.mapping.shown ? "map" : "bands";
  },

  /** Put take and picture where they belong; what is drawn on them stays. */
  placePictures() {
    if (!kit.place) return;
    const [above, below] = this.isSwapped ? [kit.picture, kit.take] : [kit.take, kit.picture];
    if (kit.parts.work.firstElementChild !== above) {
      kit.parts.work.prepend(above);
      kit.place.after(below);
    }
    const height = this.heights[this.heightKind];
    kit.parts.work.style.setProperty("--bench", height ? `${height}px` : "");
  },
  /** Only where someone moved it: measuring lays the page out. */
  sayDivider() {
    const { work, bench, divider } = kit.parts;
    divider.setAttribute("aria-valuenow", String(Math.round((100 * bench.clientHeight) / (work.clientHeight || 1))));
  },

  /** Swap take and picture; @param {"take" | "picture" | undefined} large what is to stand above */
  swap(large) {
    this.swapped = large === undefined ? !this.swapped : large === "picture";
    this.keepRoom();
  },
  /** The whole side for what stands above, or for the one that is named; and back. */
  giveWhole(large) {
    if (!this.whole && large) this.swapped = large === "picture";
    this.whole = !this.whole;
    this.keepRoom();
  },
  freeze() { this.frozen = !this.frozen; },
  keepRoom() {
    this.placePictures();
    this.sayDivider();
    localStorage.setItem(KEPT, JSON.stringify({ swapped: this.swapped, whole: this.whole, heights: this.heights, levels: kit.view.model.levels }));
  },
  /** The level axis has changed on the take: overview and in-out picture go with it. */
  keepLevels(levels) {
    kit.bench.axis = levels;
    kit.bench.paint();
    kit.overview.follow(kit.view.model);
    this.keepRoom();
  },

  /** @param {number | null} height of the bench in pixels; null is as it came */
  setBenchHeight(height) {
    const { work } = kit.parts;
    const most = work.clientHeight - LEAST_TAKE_PX - kit.parts.chain.clientHeight - 44;
    this.heights = { ...this.heights, [this.heightKind]: height && Math.round(Math.min(most, Math.max(LEAST_BENCH_PX, height))) };
    this.keepRoom();
  },
  dragDivider(event) {
    const { divider, bench } = kit.parts;
    divider.setPointerCapture(event.pointerId);
    const [began, height] = [event.clientY, bench.clientHeight];
    const move = (moved) => this.setBenchHeight(height + began - moved.clientY);
    divider.addEventListener("pointermove", move);
    divider.addEventListener("lostpointercapture", () => divider.removeEventListener("pointermove", move), { once: true });
  },
  stepDivider(event) {
    const steps = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    if (!steps) return;
    event.preventDefault();
    this.setBenchHeight(kit.parts.bench.clientHeight + steps * STEP_PX);
  },
});
