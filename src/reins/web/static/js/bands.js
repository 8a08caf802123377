// The table of bands below the spectrum: every number typeable, every choice a list; a strip of what each band did.

import { element, NumberControl } from "./control.js";
import { PointsControl } from "./longcontrols.js";
import { paintBandStrip } from "./draw/small.js";
import { valueAtPath } from "./paths.js";
import { rove } from "./roving.js";
import { sourceOptions } from "./sourcecontrols.js";

/** A number of a list as a setting of its own. */
const numberOf = (list, index) => ({ ...list, name: `${list.name}.${index}`, kind: "number", help: list.each, default: list.default[index] ?? list.high });

export class BandTable {
  /**
   * @param {HTMLTableElement} root
   * @param {{attempt: (name: string, value: any) => void, keep: (name: string, value: any) => void, select: (chosen: number[]) => void,
   *   hear: (gain: string) => void, remove: (index: number) => void, sources: () => string[][], tempo: () => number}} to
   */
  constructor(root, to) {
    Object.assign(this, { root, to, cells: new Map(), strips: new Map() });
    this.keepStop = rove(root, { columns: true });
  }

  /** Show the bands of a processor, or their keys; rows are made anew when their number or kind has changed. */
  show(kind, settings, chosen, heard, keys) {
    const list = kind.settings.find(({ name }) => name === "bands");
    const made = `${kind.type} ${settings.bands.length} ${keys}`;
    if (made !== this.made) {
      this.made = made;
      this.build(kind, list, settings.bands.length, keys);
    }
    for (const [name, cell] of this.cells) if (name !== this.trying) cell.set(valueAtPath(settings, name));
    this.chosen = chosen;
    const sounding = (heard ?? "").split("+");
    this.rows.forEach(({ row, gain, hear }, index) => {
      row.classList.toggle("is-chosen", chosen.includes(index));
      hear?.setAttribute("aria-pressed", String(sounding.includes(gain)));
    });
    this.keepStop();
  }

  build(kind, list, count, keys) {
    this.cells.clear();
    this.strips.clear();
    const between = kind.settings.find(({ name }) => name === list.between);
    const columns = { ...(between && { [list.between]: between.head }), ...(keys ? list.keys : list.columns) };
    const order = Object.keys(columns);
    const head = element("tr", "");
    head.append(...["", "hear", "what it did", ...Object.values(columns)].map((word, index) => {
      const cell = element(word ? "th" : "td", word === "what it did" ? "band-did" : `of-${order[index - 3] ?? "tools"}`, word ? { scope: "col" } : {});
      cell.textContent = word;
      return cell;
    }));
    const own = (name, index) => (name !== list.between ? { ...list.fields.find((f) => f.name === name), name: `bands.${index}.${name}` } : index < count - 1 && numberOf(between, index));
    const bands = Array.from({ length: count }, (_, index) => ({
      label: String(index + 1), gain: `band${index + 1}.gain_db`, index, heard: true, free: !between,
      fields: new Map(order.map((name) => [name, own(name, index)]).filter(([, field]) => field)),
    }));
    const singles = (keys ? [] : list.rows ?? []).map(({ label, cells, gain }) => ({
      label, gain,
      fields: new Map(Object.entries(cells).map(([column, name]) => [column, kind.settings.find((f) => f.name === name)])),
    }));
    this.rows = [...bands, ...singles].map((row) => this.row(order, row));
    this.root.replaceChildren(element("thead", ""), element("tbody", ""));
    this.root.tHead.append(head);
    this.root.tBodies[0].append(...this.rows.map(({ row }) => row));
  }

  row(order, { label, gain, index, heard, free, fields }) {
    const row = element("tr", "", { "data-row": label });
    const cell = (className, ...content) => {
      const made = element("td", className);
      made.append(...content);
      row.append(made);
      return made;
    };
    cell("band-number", label).title = index === undefined ? "" : "Ctrl chooses several; their numbers then move together";
    const strip = element("canvas", "band-strip", { role: "img", "aria-label": `What ${label} did over the part in view` });
    if (gain) this.strips.set(gain, strip);
    const button = (text, title, act, more = {}) => {
      const made = element("button", "text-button", { type: "button", title, "aria-label": title, ...more });
      made.textContent = text;
      made.addEventListener("click", act);
      return made;
    };
    const hear = heard ? button("◠", `Hear band ${label} alone`, () => this.to.hear(gain), { "data-hear-band": label }) : null;
    const remove = free ? [button("×", `Remove band ${label}`, () => this.to.remove(index), { "data-remove-band": label })] : [];
    cell("band-tools", ...(hear ? [hear] : []), ...remove);
    cell("band-did", ...(gain ? [strip] : []));
    for (const name of order) cell(`of-${name}`, ...(fields.has(name) ? [this.cell(fields.get(name)).root] : []));
    if (index !== undefined) row.addEventListener("pointerdown", (event) => this.choose(event, index));
    return { row, gain, hear };
  }

  /** A press chooses a band, with Ctrl one more or less; within what is chosen it stays. */
  choose({ ctrlKey, metaKey, target }, index) {
    const has = this.chosen.includes(index);
    if (ctrlKey || metaKey) this.to.select(has ? this.chosen.filter((other) => other !== index) : [...this.chosen, index].sort((a, b) => a - b));
    else if (!has || target.closest(".band-number")) this.to.select([index]);
  }

  cell(field) {
    const attempt = (value) => {
      this.trying = field.name; // the hand is on this cell: what it tries is not shown to it as kept
      this.to.attempt(field.name, value);
      this.trying = null;
    };
    const to = { attempt, keep: (value) => this.to.keep(field.name, value), tempo: this.to.tempo, byFigure: true };
    const made = field.kind === "points" ? new PointsControl(field, to) : field.kind === "number" ? new NumberControl(field, to) : field.default === false || field.default === true ? new Tick(field, to) : new List(field, { ...to, sources: this.to.sources });
    made.root.classList.add("cell", `in-${{ dB: "db", ":1": "ratio" }[field.unit] ?? "own"}`);
    this.cells.set(field.name, made);
    return made;
  }

  /** Draw what each band did. @param {Record<string, {held_db: number[], let_db: number[]}>} bands */
  draw(bands = this.drawn) {
    this.drawn = bands;
    for (const [gain, canvas] of this.strips) if (canvas.clientWidth) paintBandStrip(canvas, bands?.[gain] ?? null);
  }
}

/** On or off in a cell. */
class Tick {
  constructor(field, to) {
    this.root = element("button", "tick", { type: "button", role: "switch", "aria-label": field.label, "data-help": field.help, "data-setting": field.name });
    this.root.addEventListener("click", () => to.keep(!this.value));
  }

  set(value) {
    this.value = value;
    this.root.setAttribute("aria-checked", String(value));
    this.root.textContent = value ? "●" : "○";
  }
}

/** One of a few in a cell; of keys, whom the band may follow. */
class List {
  constructor(field, to) {
    Object.assign(this, { field, to });
    this.root = element("select", "", { "aria-label": field.label, "data-help": field.help, "data-setting": field.name });
    this.root.addEventListener("change", () => {
      const chosen = this.options().find(([value]) => String(value) === this.root.value);
      to.keep(chosen ? chosen[0] : this.root.value);
      this.root.blur();
    });
  }

  options() {
    if (this.field.kind === "source") return this.to.sources();
    return this.field.options.map((option) => [option, this.field.words[option] ?? (typeof option === "number" ? `${option}/oct` : option)]);
  }

  set(value) {
    const options = this.field.kind === "source" ? sourceOptions(this.options(), value) : this.options().map(([option, word]) => new Option(word, option, false, option === value));
    this.root.replaceChildren(...options);
  }
}
