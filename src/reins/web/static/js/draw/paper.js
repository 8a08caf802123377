// A canvas that fits its box at the screen's resolution, and the colours and type every picture shares.

const ROLES = ["paper", "sheet", "line", "ink", "muted", "source", "source-pale", "held", "let", "key"];

/** Colours of the present theme by role. */
export function palette() {
  const style = getComputedStyle(document.documentElement);
  return Object.fromEntries(ROLES.map((role) => [role, style.getPropertyValue(`--${role}`).trim()]));
}

/** @param {HTMLCanvasElement} canvas @returns {{ink: CanvasRenderingContext2D, width: number, height: number}} cleared, in CSS pixels */
export function blank(canvas) {
  const { clientWidth: width, clientHeight: height } = canvas;
  const ratio = window.devicePixelRatio || 1;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const ink = canvas.getContext("2d");
  ink.setTransform(ratio, 0, 0, ratio, 0, 0);
  ink.clearRect(0, 0, width, height);
  ink.font = "500 11px 'IBM Plex Sans Condensed', sans-serif";
  ink.textBaseline = "middle";
  return { ink, width, height };
}

/** A straight line. */
export function stroke(ink, colour, width, ...points) {
  ink.strokeStyle = colour;
  ink.lineWidth = width;
  ink.beginPath();
  points.forEach(([x, y], index) => (index ? ink.lineTo(x, y) : ink.moveTo(x, y)));
  ink.stroke();
}

/** Text at a place; align is left, center or right. */
export function write(ink, colour, text, x, y, align = "left") {
  ink.fillStyle = colour;
  ink.textAlign = align;
  ink.fillText(text, x, y);
}

/** A number of dB with a proper minus. */
export const db = (value) => String(value).replace("-", "−");
