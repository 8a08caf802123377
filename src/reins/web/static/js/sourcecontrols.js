// Controls of what a processor hears or sounds by: whose sound its detector follows, what else it hears, a recording.

import { element, NumberControl } from "./control.js";
import { aheadOf, hitsAhead, isHits } from "./shapes.js";

const AHEAD = { name: "ahead_ms", label: "Ahead", unit: "ms", low: 0, high: 50, default: 0, step: 1, scale: "linear", help: "How long before each hit it begins to act: where hits lie is known beforehand." };

/** What may be followed as options of a list; hits that are followed ahead are there with it. */
export function sourceOptions(sources, value) {
  const ahead = aheadOf(value);
  const there = sources.flatMap(([name, word]) => (ahead && hitsAhead(value, 0) === name ? [[name, word], [value, `${word}, ${ahead} ms ahead`]] : [[name, word]]));
  return there.map(([name, word]) => new Option(word, name, false, name === value));
}

/** Whose sound a detector hears: itself, or a track or bus before or after its chain; or the hits of a take. */
export class SourceControl {
  constructor(setting, to) {
    Object.assign(this, { setting, to, value: "self" });
    this.root = element("div", "control control-source", { "data-setting": setting.name, "data-help": setting.help });
    this.label = element("span", "control-label");
    this.label.textContent = setting.label;
    this.list = element("select", "control-list", { "aria-label": setting.label, "aria-description": setting.help });
    this.list.addEventListener("change", () => {
      to.keep(this.list.value);
      this.list.blur();
    });
    this.ahead = new NumberControl(AHEAD, { attempt: () => {}, keep: (ms) => to.keep(hitsAhead(this.value, ms)), tempo: to.tempo, hold: to.hold });
    this.root.append(this.label, this.list);
  }

  set(value) {
    this.value = value;
    this.list.replaceChildren(...this.to.sources().map(([name, word]) => new Option(word, name, false, name === hitsAhead(value, 0) || name === value)));
    this.root.classList.toggle("is-tied", value !== "self");
    if (isHits(value)) {
      if (!this.ahead.root.isConnected) this.root.append(this.ahead.root);
      this.ahead.set(aheadOf(value));
    } else this.ahead.root.remove();
  }
}

/** More sounds that a detector hears beside the one it follows, each with its gain. */
export class SourcesControl {
  constructor(setting, to) {
    Object.assign(this, { setting, to, value: [] });
    this.root = element("div", "control control-sources", { "data-setting": setting.name, "data-help": setting.help });
    this.rows = element("div", "source-rows");
    this.add = element("button", "text-button", { type: "button", "data-do": "add-source", "data-help": setting.help });
    this.add.textContent = "+ another";
    this.add.setAttribute("aria-label", "Hear another sound too");
    this.add.addEventListener("click", () => to.keep([...this.value, { source: "before", gain_db: 0 }]));
    this.root.append(this.rows, this.add);
  }

  set(value) {
    if (JSON.stringify(value) === JSON.stringify(this.value) && this.rows.childElementCount === value.length) return;
    this.value = value;
    this.add.hidden = value.length >= this.setting.most;
    this.rows.replaceChildren(...value.map((one, index) => this.row(one, index)));
  }

  row(one, index) {
    const row = element("div", "source-row");
    const changed = (more) => this.value.map((old, k) => (k === index ? { ...old, ...more } : old));
    const list = element("select", "control-list", { "aria-label": `Sound ${index + 2}` });
    list.replaceChildren(...sourceOptions(this.to.sources(), one.source));
    list.addEventListener("change", () => this.to.keep(changed({ source: list.value })));
    const gain = new NumberControl({ name: `also.${index}`, label: `Gain of sound ${index + 2}`, unit: "dB", low: -24, high: 24, default: 0, step: 0.5, scale: "db", help: "Its level among what is heard." }, {
      attempt: (value) => this.to.attempt(changed({ gain_db: value })), keep: (value) => this.to.keep(changed({ gain_db: value })), tempo: this.to.tempo, hold: this.to.hold, byFigure: true,
    });
    gain.set(one.gain_db);
    const away = element("button", "text-button", { type: "button", "aria-label": `Sound ${index + 2} no more` });
    away.textContent = "×";
    away.addEventListener("click", () => this.to.keep(this.value.filter((_, k) => k !== index)));
    row.append(list, gain.number, away);
    return row;
  }
}

/** A recording of the session's that a processor uses: one that is there, or one that is brought in now. */
export class RecordingControl {
  constructor(setting, to) {
    Object.assign(this, { setting, to, value: "" });
    this.root = element("div", "control control-recording", { "data-setting": setting.name, "data-help": setting.help });
    const label = element("label", "control-source");
    const word = element("span", "control-label");
    word.textContent = setting.label;
    this.list = element("select", "control-list", { "aria-label": setting.label, "aria-description": setting.help });
    this.list.addEventListener("change", () => {
      to.keep(this.list.value);
      this.list.blur();
    });
    label.append(word, this.list);
    const bring = element("label", "text-button side-file");
    bring.append("bring one in", this.file());
    this.away = element("button", "text-button", { type: "button", "data-do": "remove-recording", title: "Take it out of the session; refused while another room uses it" });
    this.away.textContent = "remove it";
    this.away.addEventListener("click", () => to.removeRecording(this.value));
    const row = element("div", "recording-row");
    row.append(bring, this.away);
    this.root.append(label, row);
  }

  set(value) {
    this.value = value;
    this.list.replaceChildren(...[["", this.setting.none], ...this.to.recordings()].map(([id, name]) => new Option(name, id, false, id === value)));
    this.away.hidden = !value;
  }

  file() {
    const file = element("input", "file-entry", { type: "file", accept: "audio/*,.wav,.flac", "aria-label": `Bring in a ${this.setting.label.toLowerCase()}` });
    file.addEventListener("change", () => { if (file.files.length) this.to.bringInRecording(file.files[0]); });
    return file;
  }
}
