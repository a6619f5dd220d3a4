// @ts-check
// A pointer tool: what a press in the viewer does while it is in hand. Each stands beside what it changes; `tools.js` lists
// them, and the bench knows only the one in hand.

/**
 * @typedef {object} Tool `bench` is the whole bench, `place` a point of the source, px
 * @property {(bench: any) => string} text what to do with it
 * @property {(bench: any, place: number[], event: PointerEvent) => void} press
 * @property {(bench: any) => boolean} [held] whether something is being dragged
 * @property {(bench: any, place: number[], event: PointerEvent) => void} [drag]
 * @property {(bench: any) => void} [release]
 * @property {(bench: any) => void} [forget] what was begun and is not done
 */

const SHORTEST_PX = 12; // of a line; what is shorter was a click

/** A tool that takes hold of something. @param {Omit<Tool, "held">} tool @returns {Tool} */
export const gripping = (tool) => ({ held: (bench) => (bench.aim.grip ?? null) !== null, ...tool });

/** A tool that draws a line. @param {(bench: any, ends: [number, number, number, number]) => void} drawn @returns {Tool} */
export const lining = (drawn) => ({
  text: () => "Drag along something level, like a horizon, or vertical, like a wall.",
  press(bench, place) {
    bench.aim = { ...bench.aim, from: place };
  },
  held: (bench) => Boolean(bench.aim.from),
  drag(bench, place) {
    bench.drawing = [...bench.aim.from, ...place];
    bench.drawOver();
  },
  release(bench) {
    if (!bench.drawing) return;
    const [x1, y1, x2, y2] = bench.drawing.map((/** @type {number} */ value) => Math.round(10 * value) / 10);
    bench.drawing = bench.aim = null;
    if (Math.hypot(x2 - x1, y2 - y1) < SHORTEST_PX) bench.drawOver();
    else drawn(bench, [x1, y1, x2, y2]);
  },
});
