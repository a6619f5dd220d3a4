// @ts-check
// What the glass does to a frame's light and colours, between the frames that the server lowered it for: see core/mapping/light.py.

/** @typedef {import("../views/viewer.js").Light} Light */
/** @typedef {import("../views/viewer.js").Fringe} Fringe */
/** @typedef {Omit<Light, "centre"> & { nodes: number[], centres: [number, number][], only?: Light }} Lights rows of `factors` are the nodes' */
/** @typedef {{ nodes: number[], red: [number, number][], blue: [number, number][], centres: [number, number][], only?: Fringe }} Fringes */

/** The node before a frame, the one after it, and the share of the way between. @param {number[]} nodes @param {number} frame @returns {[number, number, number]} */
function between(nodes, frame) {
  const after = nodes.findIndex((node) => node >= frame);
  if (after === 0) return [0, 0, 0];
  if (after < 0) return [nodes.length - 1, nodes.length - 1, 0];
  return [after - 1, after, (frame - nodes[after - 1]) / (nodes[after] - nodes[after - 1])];
}

/** @param {[number, number][]} pairs @param {[number, number, number]} place @returns {[number, number]} */
function mixed(pairs, [before, after, share]) {
  const [a, b] = [pairs[before], pairs[after]];
  return [a[0] + share * (b[0] - a[0]), a[1] + share * (b[1] - a[1])];
}

/** @param {Lights | null} lights @param {number} frame @returns {Light | null} */
export function lightAt(lights, frame) {
  if (!lights) return null;
  const { nodes, factors, centres, ...rest } = lights;
  if (nodes.length === 1) return (lights.only ||= { ...rest, factors, centre: centres[0] });
  const place = between(nodes, frame);
  const [before, after, share] = place;
  const wide = factors.length / nodes.length;
  const later = factors.subarray(after * wide, (after + 1) * wide);
  const now = factors.subarray(before * wide, (before + 1) * wide).map((factor, i) => factor + share * (later[i] - factor));
  return { ...rest, factors: now, centre: mixed(centres, place) };
}

/** @param {Fringes | null} fringes @param {number} frame @returns {Fringe | null} */
export function fringeAt(fringes, frame) {
  if (!fringes) return null;
  const { nodes, red, blue, centres } = fringes;
  if (nodes.length === 1) return (fringes.only ||= { red: red[0], blue: blue[0], centre: centres[0] });
  const place = between(nodes, frame);
  return { red: mixed(red, place), blue: mixed(blue, place), centre: mixed(centres, place) };
}
