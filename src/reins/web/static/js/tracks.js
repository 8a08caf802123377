// The track list: name, fader, pan, mute, solo and a moving meter for each track.

import { element, makeControl } from "./control.js";
import { putStyle } from "./put.js";

const FLOOR_DB = -60;

export class TrackList {
  /**
   * @param {object[]} settings descriptions of fader and pan
   * @param {{attempt: Function, keep: Function, move: (id: string, index: number) => void, select: (id: string) => void, tempo: () => number}} to
   */
  constructor(settings, to) {
    Object.assign(this, { settings, to });
    this.rows = new Map();
  }

  /** Show the tracks of a document in `root`. */
  show(root, document, selected) {
    for (const id of [...this.rows.keys()].filter((known) => !document.tracks[known])) {
      this.rows.get(id).root.remove();
      this.rows.delete(id);
    }
    for (const [place, id] of document.order.entries()) {
      if (!this.rows.has(id)) this.rows.set(id, this.build(id));
      const row = this.rows.get(id);
      // Moving a row that is in place would take the focus from a number being typed in it.
      if (root.children[place] !== row.root) root.insertBefore(row.root, root.children[place] ?? null);
      this.fill(row, document.tracks[id], id === selected);
    }
  }

  build(id) {
    const root = element("div", "track", { "data-track": id, role: "group" });
    const name = element("button", "track-name", { type: "button" });
    name.draggable = true;
    name.addEventListener("dragstart", () => { this.dragged = id; });
    root.addEventListener("dragover", (event) => {
      if (!this.dragged) return;
      event.preventDefault();
      root.classList.add("is-target");
    });
    root.addEventListener("dragleave", () => root.classList.remove("is-target"));
    root.addEventListener("drop", (event) => {
      root.classList.remove("is-target");
      if (!this.dragged) return;
      event.stopPropagation();
      event.preventDefault();
      this.to.move(this.dragged, [...root.parentElement.children].indexOf(root));
      this.dragged = null;
    });
    const group = element("span", "track-group");
    const meter = element("div", "track-meter", { "aria-hidden": "true" });
    const fill = element("span", "track-meter-fill");
    meter.append(fill);
    const controls = this.settings.map((setting) => {
      const control = makeControl(setting, {
        attempt: (value) => this.to.attempt(id, { [setting.name]: value }),
        keep: (value) => this.to.keep(id, { [setting.name]: value }),
        tempo: this.to.tempo,
      });
      return [setting.name, control];
    });
    const switches = ["mute", "solo"].map((what) => {
      const button = element("button", `track-${what}`, { type: "button", title: what });
      button.textContent = what[0].toUpperCase();
      button.addEventListener("click", (event) => {
        event.stopPropagation();
        this.to.keep(id, { [what]: button.getAttribute("aria-pressed") !== "true" });
      });
      return [what, button];
    });
    const foot = element("div", "track-foot");
    foot.append(...switches.map(([, button]) => button), controls[1][1].root);
    root.append(name, group, meter, controls[0][1].root, foot);
    root.addEventListener("click", () => this.to.select(id));
    return { root, name, group, fill, controls, switches };
  }

  fill(row, track, selected) {
    row.name.textContent = track.name;
    row.group.textContent = track.group;
    row.root.setAttribute("aria-label", track.name);
    row.root.classList.toggle("is-selected", selected);
    row.name.setAttribute("aria-pressed", String(selected));
    for (const [name, control] of row.controls) control.set(track[name]);
    for (const [name, button] of row.switches) {
      button.setAttribute("aria-pressed", String(track[name]));
      button.setAttribute("aria-label", `${name} ${track.name}`);
    }
  }

  /** Move the meters; levels in dB by track, or null for silence. */
  meter(meters) {
    for (const [id, row] of this.rows) {
      const level = meters?.tracks[id]?.[0] ?? -120;
      putStyle(row.fill, "transform", `scaleX(${Math.max(0, 1 - level / FLOOR_DB).toFixed(2)})`);
      row.fill.classList.toggle("is-over", level > 0);
    }
  }
}
