// @ts-check
// A lens as the server describes it for drawing: points of the straightened frame in the bent source, and back.
// Both are pixels of the upright clip; radii are half-diagonals. See core/lens/lens.py, which this follows.

/**
 * @typedef {object} Lens
 * @property {number} square how far `ratios` reach, as a square of a straightened radius
 * @property {number[]} ratios source radius over straightened radius, at even steps of that square
 * @property {number} step @property {number} squeeze @property {[number, number]} centre @property {[number, number]} decentring
 */
/** @typedef {{ width: number, height: number }} Size */

const FAR = 1e6;

/** @param {Size} size */
const half = (size) => Math.hypot(size.width, size.height) / 2;

/** @param {Lens} lens @param {number} square @returns {number} */
function ratio(lens, square) {
  const place = (square / lens.square) * (lens.ratios.length - 1);
  if (place >= lens.ratios.length - 1) return FAR;
  const i = Math.floor(place);
  return lens.ratios[i] + (place - i) * (lens.ratios[i + 1] - lens.ratios[i]);
}

/** @param {Lens} lens @param {number} x @param {number} y straightened, from the lens's centre @returns {[number, number]} */
function decentred(lens, x, y) {
  const [p1, p2] = lens.decentring;
  const r = x * x + y * y;
  return [2 * p1 * x * y + p2 * (r + 2 * x * x), p1 * (r + 2 * y * y) + 2 * p2 * x * y];
}

/** A point of the straightened frame in the source. @param {Lens} lens @param {Size} size @param {number} x @param {number} y @returns {[number, number]} */
export function bent(lens, size, x, y) {
  const h = half(size);
  const wx = ((lens.step * (x - (size.width - 1) / 2)) / h - lens.centre[0]) / lens.squeeze;
  const wy = (lens.step * (y - (size.height - 1) / 2)) / h - lens.centre[1];
  const share = ratio(lens, wx * wx + wy * wy);
  const [dx, dy] = decentred(lens, wx, wy);
  return [
    ((wx * share + dx) * lens.squeeze + lens.centre[0]) * h + (size.width - 1) / 2,
    (wy * share + dy + lens.centre[1]) * h + (size.height - 1) / 2,
  ];
}

/** A point of the source in the straightened frame. @param {Lens} lens @param {Size} size @param {number} x @param {number} y @returns {[number, number]} */
export function straightened(lens, size, x, y) {
  const h = half(size);
  const ux = ((x - (size.width - 1) / 2) / h - lens.centre[0]) / lens.squeeze;
  const uy = (y - (size.height - 1) / 2) / h - lens.centre[1];
  let [wx, wy] = undone(lens, ux, uy);
  if (lens.decentring[0] || lens.decentring[1]) {
    for (let i = 0; i < 20; i++) {
      const [dx, dy] = decentred(lens, wx, wy);
      [wx, wy] = undone(lens, ux - dx, uy - dy);
    }
  }
  return [
    ((wx * lens.squeeze + lens.centre[0]) * h) / lens.step + (size.width - 1) / 2,
    ((wy + lens.centre[1]) * h) / lens.step + (size.height - 1) / 2,
  ];
}

/** The radial part alone, by halving: the source radius rises with the straightened one. @param {Lens} lens @param {number} ux @param {number} uy */
function undone(lens, ux, uy) {
  const radius = Math.hypot(ux, uy);
  if (radius < 1e-9) return [ux, uy];
  let [low, high] = [0, Math.sqrt(lens.square)];
  for (let i = 0; i < 40; i++) {
    const middle = (low + high) / 2;
    if (middle * ratio(lens, middle * middle) < radius) low = middle;
    else high = middle;
  }
  return [(ux / radius) * low, (uy / radius) * low];
}
