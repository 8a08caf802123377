// @ts-check
// A drawn curve between its points: f(t) = (exp(6 b t) - 1) / (exp(6 b) - 1), b the bend of the first. Painting only;
// what sounds is computed by the server.

/** @typedef {[number, number, number]} Point place, value, bend */

/** @param {number} t from 0 to 1 @param {number} bend from -1 to 1 */
export const bent = (t, bend) => (Math.abs(bend) < 1e-4 ? t : Math.expm1(6 * bend * t) / Math.expm1(6 * bend));

/** Points as the server keeps them, with every bend. @param {number[][]} points @returns {Point[]} */
export const whole = (points) => points.map(([at, value, bend = 0]) => [at, value, bend]);

/**
 * A line through points for a picture: places and values, dense where a piece is bent.
 * @param {Point[]} points @param {number} steps of a bent piece @returns {[number, number][]}
 */
export function traced(points, steps = 24) {
  /** @type {[number, number][]} */
  const line = [];
  points.forEach(([at, value, bend], index) => {
    line.push([at, value]);
    const next = points[index + 1];
    if (!next || !bend || next[0] === at) return;
    for (let k = 1; k < steps; k++) line.push([at + ((next[0] - at) * k) / steps, value + (next[1] - value) * bent(k / steps, bend)]);
  });
  return line;
}

/** The value of a curve at a place; before the first and after the last point it stays. @param {Point[]} points @param {number} at */
export function valueOf(points, at) {
  const last = points.findLastIndex((point) => point[0] <= at);
  if (last < 0) return points[0][1];
  const [from, value, bend] = points[last];
  const next = points[last + 1];
  if (!next) return value;
  return value + (next[1] - value) * bent((at - from) / (next[0] - from), bend);
}

/** The points that a part of a curve needs: those in it, and one on either side. @param {Point[]} points @param {number} from @param {number} to */
export function partOf(points, from, to) {
  const first = points.findLastIndex((point) => point[0] <= from);
  const last = points.findIndex((point) => point[0] >= to);
  return points.slice(Math.max(0, first), last < 0 ? points.length : last + 1);
}

/** The least and the largest of numbers, of which there may be more than a call takes. @param {number[]} values @returns {[number, number]} */
export function extent(values) {
  let [low, high] = [Infinity, -Infinity];
  for (const value of values) {
    if (value < low) low = value;
    if (value > high) high = value;
  }
  return [low, high];
}

/** Points with one moved as far as its neighbours let it; its bend stays. @param {Point[]} points @param {number} index @param {number} at @param {number} value */
export function placedPoint(points, index, at, value) {
  const low = points[index - 1]?.[0] ?? -Infinity;
  const high = points[index + 1]?.[0] ?? Infinity;
  return points.map((point, k) => (k === index ? /** @type {Point} */ ([Math.min(high, Math.max(low, at)), value, point[2]]) : point));
}

/** Points with one more, and where it stands. @param {Point[]} points @param {number} at @param {number} value @returns {[Point[], number]} */
export function added(points, at, value) {
  const index = points.findLastIndex((point) => point[0] <= at) + 1;
  return [[...points.slice(0, index), [at, value, 0], ...points.slice(index)], index];
}
