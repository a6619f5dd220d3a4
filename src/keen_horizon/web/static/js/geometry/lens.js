// @ts-check
// Optics as the server describes them for drawing: points of the straightened frame in the bent source, and back.
// Both are pixels of the upright clip; radii are half-diagonals. See core/lens, which this follows.
import { inverse, product } from "./matrix.js";
import { read, unread } from "./rows.js";

/**
 * @typedef {object} Lens one frame's stage
 * @property {number} reach how far `ratios` reach, a straightened radius
 * @property {Float32Array} ratios source radius over straightened radius, at even steps of that radius
 * @property {number} step @property {number} squeeze @property {[number, number]} centre @property {[number, number]} decentring
 * @property {number[]} plane from the delivered to the flat straightened picture, the frame's turned camera with it
 * @property {number[]} [view] the same without a turned camera, where there is one
 * @property {"straight" | "cylinder" | "stereographic"} projection @property {number} focal
 * @property {import("./rows.js").Rows | null} rows how a rolling shutter moved the frame's rows
 */
/** @typedef {{ width: number, height: number }} Size */

const FAR = 1e6;
const ROW_ROUNDS = 2;
const LARGEST_TURN = Math.PI / 2 - 1e-6;
export const PROJECTIONS = /** @type {const} */ ({ straight: 0, cylinder: 1, stereographic: 2 });

/** A solved path with its tables as numbers; those that are `known`, by name, did not come again. @param {any} path @param {any} [known] @returns {any} */
export function unpacked(path, known = null) {
  if (path.light) path.light.factors = numbers(path.light.factors);
  if (path.bend) path.bend.controls = steps(path.bend.controls, path.bend.unit);
  if (path.lens && known && path.lens.name === known.name) {
    path.lens = known;
    return path;
  }
  for (const stage of path.lens ? path.lens.stages : []) stage.ratios = numbers(stage.ratios);
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
  const { every, stages, rows } = path.lens;
  const index = Math.min(Math.max(0, frame - path.first), path.frames - 1);
  const known = stages[Math.min(Math.floor(index / every), stages.length - 1)];
  const stage = path.turned ? { ...known, view: known.plane, plane: product(known.plane, path.turned[index]) } : known;
  if (!rows) return { ...stage, rows: null };
  const each = rows.figures.length / path.frames;
  return { ...stage, rows: { turns: rows.turns, figures: rows.figures.subarray(index * each, (index + 1) * each) } };
}

/** @param {Size} size */
const half = (size) => Math.hypot(size.width, size.height) / 2;

/** @param {Lens} lens @param {number} radius straightened @returns {number} */
function ratio(lens, radius) {
  const place = (radius / lens.reach) * (lens.ratios.length - 1);
  if (!(place < lens.ratios.length - 1)) return FAR;
  const i = Math.floor(place);
  return lens.ratios[i] + (place - i) * (lens.ratios[i + 1] - lens.ratios[i]);
}

/** A delivered point, from the middle, on the flat straightened picture. @param {Lens} lens @param {number} x @param {number} y @returns {[number, number]} */
function flat(lens, x, y) {
  let [u, v] = [x / lens.focal, y / lens.focal];
  if (lens.projection === "cylinder") {
    if (Math.abs(u) >= LARGEST_TURN) return [FAR, FAR];
    [x, y] = [Math.tan(u) * lens.focal, (v / Math.cos(u)) * lens.focal];
  } else if (lens.projection === "stereographic") {
    const square = (u * u + v * v) / 4;
    if (square >= 1) return [FAR, FAR];
    [x, y] = [x / (1 - square), y / (1 - square)];
  }
  return turned(lens.plane, x, y);
}

/** The reverse. @param {Lens} lens @param {number} x @param {number} y @returns {[number, number]} */
function unflat(lens, x, y) {
  [x, y] = turned(inverse(lens.plane), x, y);
  const [u, v] = [x / lens.focal, y / lens.focal];
  if (lens.projection === "cylinder") return [Math.atan(u) * lens.focal, (v / Math.hypot(1, u)) * lens.focal];
  const share = lens.projection === "stereographic" ? 2 / (1 + Math.sqrt(1 + u * u + v * v)) : 1;
  return [x * share, y * share];
}

/** @param {number[]} plane @param {number} x @param {number} y @returns {[number, number]} */
function turned(plane, x, y) {
  const depth = plane[6] * x + plane[7] * y + plane[8];
  if (depth <= 1e-6) return [FAR, FAR];
  return [(plane[0] * x + plane[1] * y + plane[2]) / depth, (plane[3] * x + plane[4] * y + plane[5]) / depth];
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
  if (lens.decentring[0] || lens.decentring[1]) {
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
  let [low, high] = [0, lens.reach];
  for (let i = 0; i < 40; i++) {
    const middle = (low + high) / 2;
    if (middle * ratio(lens, middle) < radius) low = middle;
    else high = middle;
  }
  return [(ux / radius) * low, (uy / radius) * low];
}
