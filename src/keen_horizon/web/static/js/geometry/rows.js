// @ts-check
// How a rolling shutter's rows moved a frame, as the server lowers it: see core/glass/shutter.py, which this follows.
// Points are half-diagonals from the middle of the flat straightened picture.

export const NODES = 9;
const FIGURES = 6;

/**
 * @typedef {object} Rows of one frame
 * @property {number} turns quarter turns that made the stored picture upright
 * @property {Float32Array} figures NODES times the factor of growth and turn, shift and tilt, across and down each
 */
/** @typedef {{ width: number, height: number }} Size */

/** Where a source place lies between the sensor's first row, -1/2, and its last, 1/2. @param {Rows} rows @param {Size} size @param {number} x @param {number} y @returns {number} */
function share({ turns }, size, x, y) {
  const half = Math.hypot(size.width, size.height) / 2;
  const [across, down] = [(x * half) / size.width, (y * half) / size.height];
  return Math.max(-0.5, Math.min(0.5, [down, across, -down, -across][turns]));
}

/** @param {Rows} rows @param {number} at @returns {number[]} the six figures there */
function moved({ figures }, at) {
  const place = (at + 0.5) * (NODES - 1);
  const node = Math.min(Math.floor(place), NODES - 2);
  const later = place - node;
  return Array.from({ length: FIGURES }, (_, i) => (1 - later) * figures[node * FIGURES + i] + later * figures[(node + 1) * FIGURES + i]);
}

/** Where a point of the middle row's moment lay when a source place was read. @param {Rows} rows @param {Size} size @param {[number, number]} point @param {[number, number]} place @returns {[number, number]} */
export function read(rows, size, [x, y], place) {
  const [c, s, right, down, tiltX, tiltY] = moved(rows, share(rows, size, ...place));
  const depth = Math.max(0.05, 1 + tiltX * x + tiltY * y);
  return [(c * x - s * y) / depth + right, (s * x + c * y) / depth + down];
}

/** The reverse. @param {Rows} rows @param {Size} size @param {[number, number]} point @param {[number, number]} place @returns {[number, number]} */
export function unread(rows, size, [x, y], place) {
  const [c, s, right, down, tiltX, tiltY] = moved(rows, share(rows, size, ...place));
  const grown = c * c + s * s;
  const [u, v] = [(c * (x - right) + s * (y - down)) / grown, (c * (y - down) - s * (x - right)) / grown];
  const depth = Math.max(0.05, 1 - (tiltX * u + tiltY * v));
  return [u / depth, v / depth];
}
