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
