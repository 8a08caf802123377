// @ts-check
// The states of the desk, each an object of its own with a name. They reach each other by `state.NAME` only, and the
// desk itself as `state.desk`; the type checker holds every such use to what the other state has.

import { above } from "./above.js";
import { aiming } from "./aiming.js";
import { asking } from "./asking.js";
import { blinding } from "./blinding.js";
import { book } from "./book.js";
import { editing } from "./editing.js";
import { fighting } from "./fighting.js";
import { files } from "./files.js";
import { frequencies } from "./frequencies.js";
import { hearing } from "./hearing.js";
import { jumping } from "./jumping.js";
import { keeping } from "./keeping.js";
import { mapping } from "./mapping.js";
import { movable } from "./movable.js";
import { otherwise } from "./otherwise.js";
import { places } from "./places.js";
import { referring } from "./referring.js";
import { reins } from "./reins.js";
import { room } from "./room.js";
import { spreading } from "./spreading.js";
import { together } from "./together.js";
import { transport } from "./transport.js";
import { trying } from "./trying.js";

const MAKERS = { above, aiming, asking, blinding, book, editing, fighting, files, frequencies, hearing, jumping, keeping, mapping, movable, otherwise, places, referring, reins, room, spreading, together, transport, trying };

/** @typedef {Record<string, any>} Kit what draws and plays, which Alpine must not watch */
/**
 * @typedef {object} States
 * @property {ReturnType<typeof above>} above
 * @property {ReturnType<typeof aiming>} aiming
 * @property {ReturnType<typeof asking>} asking
 * @property {ReturnType<typeof blinding>} blinding
 * @property {ReturnType<typeof book>} book
 * @property {ReturnType<typeof editing>} editing
 * @property {ReturnType<typeof fighting>} fighting
 * @property {ReturnType<typeof files>} files
 * @property {ReturnType<typeof frequencies>} frequencies
 * @property {ReturnType<typeof hearing>} hearing
 * @property {ReturnType<typeof jumping>} jumping
 * @property {ReturnType<typeof keeping>} keeping
 * @property {ReturnType<typeof mapping>} mapping
 * @property {ReturnType<typeof movable>} movable
 * @property {ReturnType<typeof otherwise>} otherwise
 * @property {ReturnType<typeof places>} places
 * @property {ReturnType<typeof referring>} referring
 * @property {ReturnType<typeof reins>} reins
 * @property {ReturnType<typeof room>} room
 * @property {ReturnType<typeof spreading>} spreading
 * @property {ReturnType<typeof together>} together
 * @property {ReturnType<typeof transport>} transport
 * @property {ReturnType<typeof trying>} trying
 * @property {import("../desk.js").Desk & { $refs: Record<string, any>, $nextTick: (act: () => void) => void }} desk
 */

/**
 * Alpine's component: the desk with its states.
 * @param {Kit} kit
 * @param {any} data of the page
 * @param {(kit: Kit, state: States, data: any) => object} shown makes what is the desk's own
 */
export function withStates(kit, data, shown) {
  const state = /** @type {States} */ ({});
  const made = Object.entries(MAKERS).map(([name, make]) => [name, make(kit, state, data)]);
  return Object.assign(shown(kit, state, data), Object.fromEntries(made));
}

/**
 * Let the states reach each other through the component: what is reached so is what Alpine watches.
 * @param {States} state
 * @param {any} component
 */
export function beginStates(state, component) {
  state.desk = component;
  for (const name of Object.keys(MAKERS)) state[name] = component[name];
}
