// @ts-check
// Optics as the server lowers them for drawing: points of the straightened frame in the bent source, and back.
// Both are pixels of the upright clip; radii are half-diagonals. What a lens or a projection does stands in tables.
import { inverse, product } from "./matrix.js";
import { read, unread } from "./rows.js";

/**
 * @typedef {object} Lens one frame's stage
 * @property {number} reach how far `ratios` reach, a straightened radius
 * @property {Float32Array} ratios source radius over straightened radius, at even steps of that radius
 * @property {number} step @property {number} squeeze @property {[number, number]} centre
 * @property {number[]} decentring what x^2, xy and y^2 from the centre move a point by, across, then down
 * @property {number[]} homography from the delivered to the flat straightened picture, the frame's turned camera with it
 * @property {number[]} [view] the same without a turned camera, where there is one
 * @property {number} focal @property {Unrolling | null} unrolling how the delivered becomes the flat straightened picture
 * @property {import("./rows.js").Rows | null} rows how a rolling shutter moved the frame's rows
 */
/**
 * @typedef {object} Unrolling of a projection: its points, in focal lengths, become directions by three factors each
 * @property {boolean} across whether the factors depend on the distance across alone, or on that from the middle
 * @property {number} reach of that distance, beyond which nothing is seen
 * @property {Float32Array} factors across, down and ahead, at even steps up to the reach
 */
/** @typedef {{ width: number, height: number }} Size */

const FAR = 1e6;
const ROW_ROUNDS = 2;
const HALVINGS = 40; // of a reach of a few half-diagonals: far below what single precision tells

/** A solved path with its tables as numbers; those that are `known`, by name, did not come again. @param {any} path @param {any} [known] @returns {any} */
export function unpacked(path, known = null) {
  if (path.light) path.light.factors = numbers(path.light.factors);
  if (path.bend) path.bend.controls = steps(path.bend.controls, path.bend.unit);
  if (path.lens && known && path.lens.name === known.name) {
    path.lens = known;
    return path;
  }
  for (const stage of path.lens ? path.lens.stages : []) stage.ratios = numbers(stage.ratios);
  if (path.lens && path.lens.unrolling) path.lens.unrolling.factors = numbers(path.lens.unrolling.factors);
  if (path.lens && path.lens.rows) path.lens.rows.figures = numbers(path.lens.rows.figures);
  return path;
}

/** @param {string} packed float32 in base64 @returns {Float32Array} */
function numbers(packed) {
  return new Float32Array(Uint8Array.from(atob(packed), (letter) => letter.charCodeAt(0)).buffer);
}

/** @param {string} packed int16 in base64 @param {number} unit of its steps @returns {Float32Array} */
function steps(packed, unit) {
  const whole = new Int16Array(Uint8Array.from(atob(packed), (letter) => letter.charCodeAt(0)).buffer);
  return Float32Array.from(whole, (step) => step * unit);
}

/** A path's stage of a frame; null where there is none. @param {any} path @param {number} frame @returns {Lens | null} */
export function lensAt(path, frame) {
  if (!path || !path.lens) return null;
  const { every, stages, unrolling, rows } = path.lens;
  const index = Math.min(Math.max(0, frame - path.first), path.frames - 1);
  const known = { ...stages[Math.min(Math.floor(index / every), stages.length - 1)], unrolling };
  const stage = path.turned ? { ...known, view: known.homography, homography: product(known.homography, path.turned[index]) } : known;
  if (!rows) return { ...stage, rows: null };
  const each = rows.figures.length / path.frames;
  return { ...stage, rows: { turns: rows.turns, figures: rows.figures.subarray(index * each, (index + 1) * each) } };
}

/** @param {Size} size */
const half = (size) => Math.hypot(size.width, size.height) / 2;

/** @param {Lens} lens @param {number} radius straightened @returns {number} */
function ratio(lens, radius) {
  return looked(lens.ratios, 1, radius / lens.reach)?.[0] ?? FAR;
}

/** What a table holds at a share of its reach, `each` figures; null from its end on. @param {Float32Array} table @param {number} each @param {number} share @returns {number[] | null} */
function looked(table, each, share) {
  const last = table.length / each - 1;
  const place = share * last;
  if (!(place < last)) return null;
  const i = Math.floor(place);
  return Array.from({ length: each }, (_, k) => table[i * each + k] + (place - i) * (table[(i + 1) * each + k] - table[i * each + k]));
}

/** A delivered point, from the middle, on the flat straightened picture. @param {Lens} lens @param {number} x @param {number} y @returns {[number, number]} */
function flat(lens, x, y) {
  const { focal, unrolling } = lens;
  if (!unrolling) return turned(lens.homography, x, y);
  const away = unrolling.across ? Math.abs(x) : Math.hypot(x, y);
  const factors = looked(unrolling.factors, 3, away / focal / unrolling.reach);
  if (!factors) return [FAR, FAR];
  const [across, down, ahead] = factors;
  return turned(lens.homography, across * x, down * y, ahead);
}

/** The reverse: the distance by halving, as it rises with that on the flat picture. @param {Lens} lens @param {number} x @param {number} y @returns {[number, number]} */
function unflat(lens, x, y) {
  [x, y] = turned(inverse(lens.homography), x, y);
  const { focal, unrolling } = lens;
  if (!unrolling) return [x, y];
  const factorsAt = (/** @type {number} */ away) => looked(unrolling.factors, 3, away / unrolling.reach) || [1, 1, 0];
  const wanted = (unrolling.across ? Math.abs(x) : Math.hypot(x, y)) / focal;
  const away = halved(unrolling.reach, (middle) => {
    const [across, , ahead] = factorsAt(middle);
    return middle * across < wanted * ahead;
  });
  const [across, down, ahead] = factorsAt(away);
  return [(x * ahead) / across, (y * ahead) / down];
}

/** The value up to `reach` below which all are too small. @param {number} reach @param {(value: number) => boolean} small @returns {number} */
function halved(reach, small) {
  let [low, high] = [0, reach];
  for (let i = 0; i < HALVINGS; i++) {
    const middle = (low + high) / 2;
    if (small(middle)) low = middle;
    else high = middle;
  }
  return low;
}

/** @param {number[]} homography @param {number} x @param {number} y @param {number} [z] @returns {[number, number]} */
function turned(homography, x, y, z = 1) {
  const depth = homography[6] * x + homography[7] * y + homography[8] * z;
  if (depth <= 1e-6 * z) return [FAR, FAR];
  return [(homography[0] * x + homography[1] * y + homography[2] * z) / depth, (homography[3] * x + homography[4] * y + homography[5] * z) / depth];
}

/** @param {Lens} lens @param {number} x @param {number} y straightened, from the lens's centre @returns {[number, number]} */
function decentred({ decentring }, x, y) {
  const squares = [x * x, x * y, y * y];
  const sum = (/** @type {number} */ from) => squares.reduce((all, square, i) => all + square * decentring[from + i], 0);
  return [sum(0), sum(3)];
}

/** A point of the straightened frame in the source. @param {Lens} lens @param {Size} size @param {number} x @param {number} y @returns {[number, number]} */
export function bent(lens, size, x, y) {
  const h = half(size);
  const straight = flat(lens, (lens.step * (x - (size.width - 1) / 2)) / h, (lens.step * (y - (size.height - 1) / 2)) / h);
  let place = alone(lens, ...straight);
  for (let i = 0; lens.rows && i < ROW_ROUNDS; i++) place = alone(lens, ...read(lens.rows, size, straight, place));
  return [place[0] * h + (size.width - 1) / 2, place[1] * h + (size.height - 1) / 2];
}

/** What the lens alone does to a point of the flat straightened picture, half-diagonals. @param {Lens} lens @param {number} x @param {number} y @returns {[number, number]} */
function alone(lens, x, y) {
  const wx = (x - lens.centre[0]) / lens.squeeze;
  const wy = y - lens.centre[1];
  const share = ratio(lens, Math.hypot(wx, wy));
  const [dx, dy] = decentred(lens, wx, wy);
  return [(wx * share + dx) * lens.squeeze + lens.centre[0], wy * share + dy + lens.centre[1]];
}

/** A point of the source in the straightened frame. @param {Lens} lens @param {Size} size @param {number} x @param {number} y @returns {[number, number]} */
export function straightened(lens, size, x, y) {
  const h = half(size);
  const [placeX, placeY] = [(x - (size.width - 1) / 2) / h, (y - (size.height - 1) / 2) / h];
  const [ux, uy] = [(placeX - lens.centre[0]) / lens.squeeze, placeY - lens.centre[1]];
  let [wx, wy] = undone(lens, ux, uy);
  if (lens.decentring.some(Boolean)) {
    for (let i = 0; i < 20; i++) {
      const [dx, dy] = decentred(lens, wx, wy);
      [wx, wy] = undone(lens, ux - dx, uy - dy);
    }
  }
  let straight = /** @type {[number, number]} */ ([wx * lens.squeeze + lens.centre[0], wy + lens.centre[1]]);
  if (lens.rows) straight = unread(lens.rows, size, straight, [placeX, placeY]);
  const [sx, sy] = unflat(lens, ...straight);
  return [(sx * h) / lens.step + (size.width - 1) / 2, (sy * h) / lens.step + (size.height - 1) / 2];
}

/** The radial part alone, by halving: the source radius rises with the straightened one. @param {Lens} lens @param {number} ux @param {number} uy */
function undone(lens, ux, uy) {
  const radius = Math.hypot(ux, uy);
  if (radius < 1e-9) return [ux, uy];
  const straight = halved(lens.reach, (middle) => middle * ratio(lens, middle) < radius);
  return [(ux / radius) * straight, (uy / radius) * straight];
}
