// A line drawn over the take, in its setting's own unit, with the value where it rests: a drawing of its own above the
// take's picture, so that dragging it paints nothing else.

import { partOf, traced } from "../bends.js";
import { spoken } from "../values.js";

const SVG = "http://www.w3.org/2000/svg";

export class LineDrawing {
  /** @param {HTMLElement} root the hand on the line */
  constructor(root) {
    this.root = root;
    const svg = document.createElementNS(SVG, "svg");
    svg.setAttribute("class", "line-drawing");
    svg.setAttribute("aria-hidden", "true");
    [this.rest, this.line] = ["line-rest", "line-drawn"].map((name) => this.made("path", name));
    [this.high, this.low] = ["line-high", "line-low"].map((name) => this.made("text", name));
    this.svg = svg;
    svg.append(this.rest, this.line, this.high, this.low);
    root.prepend(svg);
  }

  made(kind, name) {
    const made = document.createElementNS(SVG, kind);
    made.setAttribute("class", name);
    return made;
  }

  /** @param {number[][]} points @param {object} axes of the hand @param {{rest: number, setting: object}} drawn */
  draw(points, axes, { rest, setting }) {
    const { left, right } = axes;
    this.svg.style.clipPath = `inset(0 ${this.root.clientWidth - right}px 0 ${left}px)`;
    const level = axes.y(rest).toFixed(1);
    this.rest.setAttribute("d", `M${left} ${level}H${right}`);
    const part = partOf(points, axes.at(left), axes.at(right));
    const line = traced(part).map(([at, value]) => `${axes.x(at).toFixed(1)} ${axes.y(value).toFixed(1)}`);
    const [first, last] = [part[0], part[part.length - 1]];
    this.line.setAttribute("d", `M${Math.min(left, axes.x(first[0]))} ${axes.y(first[1])}L${line.join("L")}H${Math.max(right, axes.x(last[0]))}`);
    for (const [text, value, below] of [[this.high, axes.high, 12], [this.low, axes.low, -5]]) {
      text.textContent = spoken(value, setting);
      text.setAttribute("x", String(left + 6));
      text.setAttribute("y", String(axes.y(value) + below));
    }
  }
}
