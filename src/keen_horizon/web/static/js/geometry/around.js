// @ts-check
// Looking around: turns of a view, and the rays that its points see; x to the right, y down, z ahead (see core/cameras).
import { product } from "./matrix.js";

/** @typedef {{ yaw: number, pitch: number, roll: number, field: number, roundness: number }} Outlook rad; from flat, 0, to stereographic, 1 */
/** @typedef {"flat" | "cylinder" | "stereographic"} Projection */
/** @typedef {{ projection: Projection | null, width: number, height: number, focal: number, back: number }} Camera null: the sphere; `back`: how many radii behind its middle a view is taken from */

/** The turn steadied_from_view. @param {Outlook} outlook @returns {number[]} row-major 3x3 */
export function turnOf({ yaw, pitch, roll }) {
  const [a, b] = [Math.cos(yaw), Math.sin(yaw)];
  const [c, d] = [Math.cos(pitch), Math.sin(pitch)];
  const [e, f] = [Math.cos(roll), Math.sin(roll)];
  return product(product([a, 0, b, 0, 1, 0, -b, 0, a], [1, 0, 0, 0, c, -d, 0, d, c]), [e, -f, 0, f, e, 0, 0, 0, 1]);
}

/** px for a radian in the middle of a view. @param {Projection} projection @param {number} back @param {number} width @param {number} field rad */
export function focalOf(projection, back, width, field) {
  const half = field / 2;
  const reach = projection === "cylinder" ? half : ((1 + back) * Math.sin(half)) / (back + Math.cos(half));
  return width / 2 / reach;
}

/** How wide, rad, a view of a focal length is. @param {Projection} projection @param {number} back @param {number} width @param {number} focal */
export function fieldOf(projection, back, width, focal) {
  const reach = width / 2 / focal;
  return 2 * (projection === "cylinder" ? reach : Math.acos(depthOf((reach / (1 + back)) ** 2, back)));
}

/** See core/cameras/view.py. @param {number} reach @param {number} back */
const depthOf = (reach, back) => (Math.sqrt(1 + reach * (1 - back * back)) - back * reach) / (1 + reach);

/** The ray of a point, px from the middle of a view. @param {Camera} camera @param {number} x @param {number} y @returns {number[]} */
export function rayOf({ projection, focal, back }, x, y) {
  if (projection === "cylinder") return [Math.sin(x / focal), y / focal, Math.cos(x / focal)];
  const [u, v] = [x / focal / (1 + back), y / focal / (1 + back)];
  const depth = depthOf(u * u + v * v, back);
  return [u * (back + depth), v * (back + depth), depth];
}

/** The ray of a point of a picture, in shares of its sides. @param {Camera} camera @param {[number, number]} share @returns {number[]} */
export function rayAt(camera, [x, y]) {
  if (camera.projection) return rayOf(camera, (x - 0.5) * camera.width, (y - 0.5) * camera.height);
  const [longitude, latitude] = [(x - 0.5) * 2 * Math.PI, (y - 0.5) * Math.PI];
  return [Math.sin(longitude) * Math.cos(latitude), Math.sin(latitude), Math.cos(longitude) * Math.cos(latitude)];
}

/** The reverse of `rayAt`; null for what a picture does not show. @param {Camera} camera @param {number[]} ray @returns {[number, number] | null} */
export function shareAt(camera, ray) {
  const [x, y, z] = ray.map((/** @type {number} */ part) => part / Math.hypot(...ray));
  const { projection, width, height, focal, back } = camera;
  if (!projection) return shareOf([x, y, z]);
  if (projection !== "cylinder" && back + z < 0.02) return null;
  const level = Math.max(1e-6, Math.hypot(x, z));
  const far = (1 + back) / (back + z);
  const [u, v] = projection === "cylinder" ? [Math.atan2(x, z), y / level] : [x * far, y * far];
  return [(u * focal) / width + 0.5, (v * focal) / height + 0.5];
}

/** Where a ray lies in a whole sphere's picture, in shares of its sides. @param {number[]} ray @returns {[number, number]} */
export function shareOf([x, y, z]) {
  return [Math.atan2(x, z) / (2 * Math.PI) + 0.5, Math.atan2(y, Math.hypot(x, z)) / Math.PI + 0.5];
}

/** @param {number[]} m row-major 3x3 @param {number[]} v @returns {number[]} */
export function turned(m, [x, y, z]) {
  return [m[0] * x + m[1] * y + m[2] * z, m[3] * x + m[4] * y + m[5] * z, m[6] * x + m[7] * y + m[8] * z];
}

/** A ray turned by a rotation vector, `share` of it. @param {number[]} ray @param {number[]} by rad @param {number} share @returns {number[]} */
function turnedBy(ray, by, share) {
  const angle = Math.hypot(...by) * share;
  if (!angle) return ray;
  const axis = by.map((part) => part / Math.hypot(...by));
  const [x, y, z] = ray;
  const across = [axis[1] * z - axis[2] * y, axis[2] * x - axis[0] * z, axis[0] * y - axis[1] * x];
  const along = axis[0] * x + axis[1] * y + axis[2] * z;
  return ray.map((part, i) => Math.cos(angle) * part + Math.sin(angle) * across[i] + (1 - Math.cos(angle)) * along * axis[i]);
}

/** Which row sees a ray, from -1/2 to 1/2. @param {number[]} ray */
const rowShare = ([x, y, z]) => Math.atan2(y, Math.hypot(x, z)) / Math.PI;

/** A ray as its frame's middle row would have seen it (see core/motion/sphere/rows.py). @param {number[]} ray @param {number[]} readTurn @returns {number[]} */
export function atMiddleRow(ray, readTurn) {
  return turnedBy(ray, readTurn, rowShare(ray));
}

/** The reverse: where the row that really saw it has a ray. @param {number[]} ray @param {number[]} readTurn @returns {number[]} */
export function atOwnRow(ray, readTurn) {
  const once = turnedBy(ray, readTurn, -rowShare(ray));
  return turnedBy(ray, readTurn, -rowShare(once));
}

/** The border of a view on the sphere it looks out of, in shares of its sides, as lines that end where its sides meet.
 * @param {Camera} camera @param {number[]} turn steadied_from_view @returns {[number, number][][]} */
export function outline(camera, turn) {
  const [w, h, steps] = [camera.width / 2, camera.height / 2, 24];
  const corners = [[-w, -h], [w, -h], [w, h], [-w, h], [-w, -h]];
  /** @type {[number, number][][]} */ const lines = [[]];
  for (let side = 0; side < 4; side++)
    for (let step = 0; step <= steps; step++) {
      const [[x0, y0], [x1, y1]] = [corners[side], corners[side + 1]];
      const part = step / steps;
      const at = shareOf(turned(turn, rayOf(camera, x0 + (x1 - x0) * part, y0 + (y1 - y0) * part)));
      const line = lines[lines.length - 1];
      const last = line[line.length - 1];
      if (last && Math.abs(last[0] - at[0]) > 0.5) lines.push([at]);
      else line.push(at);
    }
  return lines;
}
