// The sends of a strip: a row for each bus it goes to besides, with level, where it is taken, on and off; and one that
// adds another.

import { element } from "./control.js";
import { makeControl } from "./makecontrol.js";

export class SendRows {
  /**
   * @param {string} id of the strip
   * @param {any} level how the level of a send is described
   * @param {{attemptSend: Function, keepSend: Function, removeSend: Function, tempo: () => number}} to
   */
  constructor(id, level, to) {
    Object.assign(this, { id, level, to });
    this.root = element("div", "strip-sends");
    this.list = element("div", "");
    const label = element("label", "strip-way");
    this.more = element("select", "", { "data-do": "add-send", "aria-label": "Send to a bus besides" });
    this.more.addEventListener("click", (event) => event.stopPropagation());
    this.more.addEventListener("change", () => {
      if (this.more.value) this.to.keepSend(id, this.more.value, {});
      this.more.blur(); // so that the keys work again
    });
    label.append("Send to ", this.more);
    this.label = label;
    this.root.append(this.list, label);
    /** @type {Map<string, {root: HTMLElement, control: any, tap: HTMLElement, on: HTMLElement}>} */
    this.rows = new Map();
  }

  /** Show the sends of a strip. */
  fill(document, strip) {
    const wanted = strip.sends.map(({ bus }) => bus);
    for (const bus of [...this.rows.keys()].filter((known) => !wanted.includes(known))) {
      this.rows.get(bus)?.root.remove();
      this.rows.delete(bus);
    }
    for (const send of strip.sends) {
      const row = this.rows.get(send.bus) ?? this.build(send.bus);
      row.control.label.querySelector(".send-bus").textContent = document.buses[send.bus].name;
      row.control.set(send.level_db);
      row.tap.textContent = send.tap === "before" ? "before fader" : "after fader";
      row.tap.setAttribute("aria-pressed", String(send.tap === "before"));
      row.on.setAttribute("aria-pressed", String(send.on));
      row.root.classList.toggle("is-off", !send.on);
    }
    const free = document.bus_order.filter((bus) => bus !== this.id && !wanted.includes(bus));
    this.more.replaceChildren(new Option("choose a bus", ""), ...free.map((bus) => new Option(document.buses[bus].name, bus)));
    this.label.hidden = free.length === 0;
  }

  build(bus) {
    const root = element("div", "strip-send", { "data-send": bus });
    const control = makeControl({ ...this.level, name: `send.${bus}`, label: "Send level", moves: false }, {
      attempt: (value) => this.to.attemptSend(this.id, bus, { level_db: value }),
      keep: (value) => this.to.keepSend(this.id, bus, { level_db: value }),
      tempo: this.to.tempo,
    });
    control.label.replaceChildren(element("span", "send-bus"));
    const tap = this.button("send-tap", "Before the fader, the bus gets it whatever the fader says.", () => this.to.keepSend(this.id, bus, { tap: tap.getAttribute("aria-pressed") === "true" ? "after" : "before" }));
    const on = this.button("send-on", "Switches the send off and on.", () => this.to.keepSend(this.id, bus, { on: on.getAttribute("aria-pressed") !== "true" }));
    on.textContent = "on";
    const remove = this.button("send-remove", "Takes the send away.", () => this.to.removeSend(this.id, bus));
    remove.textContent = "×";
    remove.setAttribute("aria-label", "Remove the send");
    const tools = element("div", "send-tools");
    tools.append(tap, on, remove);
    root.append(control.root, tools);
    this.list.append(root);
    const row = { root, control, tap, on };
    this.rows.set(bus, row);
    return row;
  }

  button(name, help, work) {
    const button = element("button", `text-button ${name}`, { type: "button", "data-help": help });
    button.addEventListener("click", (event) => {
      event.stopPropagation();
      work();
    });
    return button;
  }
}
