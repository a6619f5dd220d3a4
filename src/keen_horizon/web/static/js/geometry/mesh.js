// @ts-check
// The mesh that bends a frame's picture, as the server lowers it: see core/geometry/mesh.py, which this follows.
// Controls are in the middle of cells, and of one more cell beyond each side.

/** @typedef {object} Mesh of one frame @property {number} rows @property {number} columns of controls @property {Float32Array} controls px, x and y by turns */
/** @typedef {{ width: number, height: number }} Size */

const ROUNDS_BACK = 4;

/** A solved path's mesh of a frame; null where it has none. @param {any} path @param {number} frame @returns {Mesh | null} */
export function meshAt(path, frame) {
  if (!path || !path.bend) return null;
  const { rows, columns, controls } = path.bend;
  const index = Math.min(Math.max(0, frame - path.first), path.frames - 1);
  return { rows, columns, controls: controls.subarray(2 * rows * columns * index, 2 * rows * columns * (index + 1)) };
}

/** The three controls around a step, and what they weigh. @param {number} share of the picture's side @param {number} count @returns {[number, number[]]} */
function around(share, count) {
  const step = Math.min(1, Math.max(0, share)) * (count - 2) + 0.5;
  const middle = Math.min(Math.max(Math.round(step), 1), count - 2);
  const away = Math.min(0.5, Math.max(-0.5, step - middle));
  return [middle - 1, [(0.5 - away) ** 2 / 2, 0.75 - away ** 2, (0.5 + away) ** 2 / 2]];
}

/** How far a source place is moved. @param {Mesh} mesh @param {Size} size @param {number} x @param {number} y @returns {[number, number]} px */
export function bend({ rows, columns, controls }, size, x, y) {
  const [left, across] = around((x + 0.5) / size.width, columns);
  const [top, down] = around((y + 0.5) / size.height, rows);
  /** @type {[number, number]} */ const sum = [0, 0];
  for (let j = 0; j < 3; j++)
    for (let i = 0; i < 3; i++)
      for (const axis of [0, 1]) sum[axis] += down[j] * across[i] * controls[2 * ((top + j) * columns + left + i) + axis];
  return sum;
}

/** @param {Mesh | null} mesh @param {Size} size @param {number[]} place of the source, unbent @returns {number[]} */
export function meshed(mesh, size, [x, y]) {
  const [dx, dy] = mesh ? bend(mesh, size, x, y) : [0, 0];
  return [x + dx, y + dy];
}

/** The reverse. @param {Mesh | null} mesh @param {Size} size @param {number[]} place @returns {number[]} */
export function unmeshed(mesh, size, [x, y]) {
  let [u, v] = [x, y];
  for (let i = 0; mesh && i < ROUNDS_BACK; i++) {
    const [dx, dy] = bend(mesh, size, u, v);
    [u, v] = [x - dx, y - dy];
  }
  return [u, v];
}
