// @ts-check
// Marks with names on the ruler: verse, chorus. One press loops from a mark to the next.

import { newId } from "./editing.js";
import { clock } from "../times.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const places = (kit, state) => ({
  get list() {
    const { places: all, sample_rate: rate } = state.desk.document;
    return all.map((place, index) => ({ ...place, time: clock(place.at_frame / rate), end_frame: all[index + 1]?.at_frame ?? state.desk.session.frames }));
  },
  put() {
    const [id, frame] = [newId(), kit.live.position()];
    return state.editing.change({ kind: "put_place", place_id: id, at_frame: frame }).then((kept) => { if (kept) state.keeping.tell(`${kept.label}: “Marks” above the take names it.`); });
  },
  move(id, frame) { return state.editing.change({ kind: "put_place", place_id: id, at_frame: Math.max(0, Math.round(frame)) }); },
  rename(id, field) {
    const name = field.value.trim();
    if (name && name !== field.defaultValue) state.editing.change({ kind: "put_place", place_id: id, name });
    else field.value = field.defaultValue;
  },
  remove(id) { return state.editing.change({ kind: "remove_place", place_id: id }); },
  /** Loop from a mark to the next one, or to the end, and go there. */
  loop(id) {
    const place = this.list.find((one) => one.id === id);
    if (!place || place.end_frame <= place.at_frame) return state.keeping.complain("Nothing follows this mark: the session ends there.");
    kit.live.seek(place.at_frame);
    return state.editing.change({ kind: "set_session", loop: { on: true, start_frame: place.at_frame, end_frame: place.end_frame } });
  },
  show() { kit.parts.placelist.showModal(); },
});
