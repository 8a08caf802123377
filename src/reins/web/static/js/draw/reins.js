// The reins: from each key's strip to the one it holds, an amber line that hangs between them at the lists' right edge.

const SVG = "http://www.w3.org/2000/svg";
const SLACK_PX = 7;
const FROM_RIGHT_PX = 7;

/**
 * @param {SVGElement} svg laid over the lists
 * @param {{from: HTMLElement, to: HTMLElement}[]} ties rows of keys and of what they hold
 */
export function paintReins(svg, ties) {
  const list = svg.parentElement;
  svg.setAttribute("height", list.scrollHeight);
  const middle = (row) => row.offsetTop + 13;
  const x = list.clientWidth - FROM_RIGHT_PX;
  svg.replaceChildren(
    ...ties.flatMap(({ from, to }) => {
      const [a, b] = [middle(from), middle(to)];
      const line = document.createElementNS(SVG, "path");
      line.setAttribute("class", "rein");
      line.setAttribute("d", `M ${x} ${a} C ${x + SLACK_PX} ${a + (b - a) / 3}, ${x + SLACK_PX} ${a + (2 * (b - a)) / 3}, ${x} ${b}`);
      const tip = document.createElementNS(SVG, "path");
      tip.setAttribute("class", "rein-tip");
      tip.setAttribute("d", `M ${x - 6} ${b} l 7 -4 l 0 8 z`);
      return [line, tip];
    }),
  );
}
