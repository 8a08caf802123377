// @ts-check
// Found by typing: what can be done, settings of the chosen processor, tracks. A setting with a value behind it is set.

import { parsed } from "../values.js";

const SHOWN = 12;

/** @typedef {{kind: string, name: string, words?: string, setting?: any, act: (value?: string) => void}} Goal */

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 * @param {any} data of the page
 */
export const jumping = (kit, state, data) => ({
  text: "",
  at: 0,
  wrong: "",
  shown: false, // nothing is looked for while it is not: what it could find hangs on all there is

  open() {
    Object.assign(this, { text: "", at: 0, wrong: "", shown: true });
    kit.parts.jump.addEventListener("close", () => { this.shown = false; }, { once: true });
    kit.parts.jump.showModal();
  },
  close() { kit.parts.jump.close(); },

  /** @returns {Goal[]} all there is to go to */
  get goals() {
    const { desk, editing, transport, hearing, files, places, together, aiming, spreading, blinding, room, reins, referring, above, book, mapping } = state;
    const press = (/** @type {string} */ name) => () => /** @type {HTMLElement | null} */ (document.querySelector(`[data-do="${name}"]`))?.click();
    const action = (name, act, words = "") => ({ kind: "do", name, words, act });
    const actions = [
      action("Play or stop", () => transport.toggle(), "start pause"), action("Loop on or off", () => transport.toggleLoop(), "cycle repeat"),
      action("Undo", () => editing.undo(), "back"), action("Redo", () => editing.redo(), "forward"), action("Steps: all that was done", () => editing.showHistory(), "history"),
      action("Export", () => files.showExport(), "bounce render mix stems session file"), action("Marks on the ruler", () => places.show(), "markers verse chorus"), action("Mark where you are", () => places.put(), "marker"),
      action("Sets of solos and drafts", () => together.showSets(), "snapshots scenes"), action("Whole chain: copy, keep, lay", () => together.showChain(), "preset paste"), action("A bus of several tracks", () => editing.beginBus(), "group submix"),
      action("Aim: say what you want", () => aiming.toggle(), "assistant automatic"), action("Spread: values side by side", () => spreading.toggle(), "compare"), action("Blind test", () => blinding.toggle(), "abx compare"),
      action("The guide", () => book.toggle(), "help manual book"), action("The first hour", () => book.show("/guide/first_hour"), "help tutorial begin"), action("The session from above", () => above.toggle(), "overview all tracks"), action("Hear the reference, or the mix", () => referring.swap(), "compare finished record"), action("Match loudness", () => hearing.changeMatching(), "level equal"), action("Hear in the mix, the strip, the processor", () => hearing.changeReach(), "solo listen"),
      ...hearing.listens.map(([what, word]) => action(`Hear ${word}`, () => hearing.hear(what), "listen bypass delta")), ...hearing.allSides.map(([sides, word]) => action(`Hear ${word}`, () => hearing.hearSides(sides), "listen")),
      action("Map of the take", () => mapping.show(true), "spectrogram"), action("Level of the take", () => mapping.show(false), "waveform"), action("Swap take and picture", () => room.swap(undefined), "large"),
      action("All reins", () => reins.showReins(), "automation movement modulation"), action("Drafts of this chain", () => editing.showDrafts(), "versions snapshots"), action("All keys", () => desk.$refs.help.showModal(), "shortcuts keyboard"),
      action("Day or night", () => desk.changeTheme(), "dark light theme"), action("Why here", () => state.asking.here(), "explain"), action("Next worst place", () => state.asking.nextWorst(1)), action("Overdone", press("overdone"), "exaggerate"),
    ];
    const strips = [...together.order, "master"].map((id) => ({ kind: "go to", name: together.nameOf(id) || "Master", act: () => desk.select(id) }));
    const settings = (desk.kind?.settings ?? []).filter(({ kind }) => kind !== "list").map((setting) => ({
      kind: setting.group.toLowerCase(), name: setting.label, words: `${data.knownAs[setting.name.split(".").pop()] ?? ""} ${setting.help}`, setting, act: (value) => this.goToSetting(setting, value),
    }));
    const adds = desk.strip && !desk.empty ? desk.processors.map((kind) => ({ kind: "add", name: kind.label, words: `${kind.words} ${kind.about}`, act: () => editing.add(kind.type) })) : [];
    const points = (desk.kind?.points ?? []).map(({ name, sentence }) => ({ kind: "starting point", name, words: sentence, act: () => editing.onProcessor("start_from", desk.processor, { name }) }));
    return [...settings, ...strips, ...actions, ...adds, ...points];
  },

  /** What is typed, parted into words to look for and a value at the end. */
  get asked() {
    const [, words, value] = /^(.*?)(?:\s+([-−+]?\d[\w.,/: %-]*))?$/.exec(this.text.trim()) ?? ["", this.text, undefined];
    return { words: words.toLowerCase().split(/\s+/).filter(Boolean), value };
  },
  /** The best first: what begins with what is typed, then what holds it in its name, then by other words. */
  get found() {
    if (!this.shown) return [];
    const { words, value } = this.asked;
    const rank = (/** @type {Goal} */ { kind, name, words: more = "", setting }) => {
      const [own, all] = [name.toLowerCase(), `${kind} ${name} ${more}`.toLowerCase()];
      if (!words.every((word) => all.includes(word)) || (value !== undefined && !setting)) return 0;
      if (own.startsWith(words[0] ?? "")) return 3;
      return words.every((word) => own.includes(word)) ? 2 : 1;
    };
    const ranked = this.goals.map((goal, index) => ({ goal, index, rank: rank(goal) })).filter((one) => one.rank);
    return ranked.sort((a, b) => b.rank - a.rank || a.index - b.index).slice(0, SHOWN).map(({ goal }) => goal);
  },
  typed() { Object.assign(this, { at: 0, wrong: "" }); },
  /** @param {KeyboardEvent} event */
  key(event) {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (by) this.at = Math.min(Math.max(this.at + by, 0), this.found.length - 1);
    else if (event.key === "Enter") this.run(this.found[this.at]);
    else return;
    event.preventDefault();
  },
  /** @param {Goal | undefined} goal */
  run(goal) {
    if (!goal) return;
    this.wrong = "";
    goal.act(this.asked.value);
    if (!this.wrong) this.close();
  },
  /** Set a setting to what is typed, or have it under the keys. */
  goToSetting(setting, value) {
    const control = kit.bench.controls.get(setting.name);
    if (value === undefined || setting.kind !== "number") {
      this.close(); // which gives the focus back to where it was, so that it is taken after that
      setTimeout(() => control?.root.querySelector("[role=slider], [role=radio][aria-checked=true], select, input, button:not(.control-rein)")?.focus());
      return;
    }
    try {
      state.trying.keepSetting(setting.name, parsed(value, setting, state.desk.document.tempo_bpm));
    } catch (problem) {
      this.wrong = `${setting.label}: ${/** @type {Error} */ (problem).message}.`;
    }
  },
});
