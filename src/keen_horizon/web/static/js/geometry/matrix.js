// @ts-check
// 3x3 matrices, row-major arrays of nine, acting on column vectors (x, y, 1). Origin: centre of the top-left pixel.

/** @typedef {number[]} Matrix */

/** @type {Matrix} */
export const IDENTITY = [1, 0, 0, 0, 1, 0, 0, 0, 1];

/** @param {Matrix} m @param {number} x @param {number} y @returns {[number, number]} */
export function mapped(m, x, y) {
  const depth = m[6] * x + m[7] * y + m[8];
  return [(m[0] * x + m[1] * y + m[2]) / depth, (m[3] * x + m[4] * y + m[5]) / depth];
}

/** The outer corners of a picture, clockwise. @param {number} width @param {number} height @returns {[number, number][]} */
export function corners(width, height) {
  return [[-0.5, -0.5], [width - 0.5, -0.5], [width - 0.5, height - 0.5], [-0.5, height - 0.5]];
}

/** The largest box of an aspect inside a box. @param {number} width @param {number} height @param {number} aspect */
export function inside(width, height, aspect) {
  const w = Math.min(width, height * aspect);
  return { x: (width - w) / 2, y: (height - w / aspect) / 2, width: w, height: w / aspect };
}

/** @param {number[]} m row-major 3x3 @returns {number[]} its inverse */
export function inverse(m) {
  const [a, b, c, d, e, f, g, h, i] = m;
  const cofactors = [e * i - f * h, c * h - b * i, b * f - c * e, f * g - d * i, a * i - c * g, c * d - a * f, d * h - e * g, b * g - a * h, a * e - b * d];
  const determinant = a * cofactors[0] + b * cofactors[3] + c * cofactors[6];
  return cofactors.map((value) => value / determinant);
}

/** @param {number[]} m row-major 3x3 @returns {number[]} */
export function transposed([a, b, c, d, e, f, g, h, i]) {
  return [a, d, g, b, e, h, c, f, i];
}

/** @param {number[]} a @param {number[]} b @returns {number[]} a b */
export function product(a, b) {
  return Array.from({ length: 9 }, (_, i) => {
    const row = 3 * Math.floor(i / 3);
    return a[row] * b[i % 3] + a[row + 1] * b[3 + (i % 3)] + a[row + 2] * b[6 + (i % 3)];
  });
}

/** The matrix that enlarges about a place. @param {number[]} place @param {number} by @returns {number[]} */
export function about([x, y], by) {
  return [by, 0, x * (1 - by), 0, by, y * (1 - by), 0, 0, 1];
}

/** The matrix that takes a rectangle's outer corners, from 0 to its sides, to four places, clockwise from the top left. @param {number[][]} quad @param {number} width @param {number} height @returns {number[]} */
export function onto(quad, width, height) {
  const [[x0, y0], [x1, y1], [x2, y2], [x3, y3]] = quad;
  const [dx1, dy1, dx2, dy2] = [x1 - x2, y1 - y2, x3 - x2, y3 - y2];
  const [sx, sy] = [x0 - x1 + x2 - x3, y0 - y1 + y2 - y3];
  const cross = dx1 * dy2 - dx2 * dy1;
  const [g, h] = [(sx * dy2 - dx2 * sy) / cross, (dx1 * sy - sx * dy1) / cross];
  const unit = [x1 - x0 + g * x1, x3 - x0 + h * x3, x0, y1 - y0 + g * y1, y3 - y0 + h * y3, y0, g, h, 1];
  return product(unit, [1 / width, 0, 0, 0, 1 / height, 0, 0, 0, 1]);
}
