// @ts-check
// What is believed of a sphere, over its picture: followed points, and areas that are ignored.
import { marks } from "../../views/overlay.js";

const MARK = 2.5; // half a point's mark, CSS px
const STEP = 1 / 180; // of the picture's width, between corners: sides are straight in the picture, not on the sphere
const BORDER_PX = 2;
const SVG = "http://www.w3.org/2000/svg";

/** @param {import("../bench/parts.js").Parts} parts @returns {any} */
export const evidence = (parts) => ({
  /** What is drawn over the picture has changed. */
  drawOver() {
    this.draw();
  },
  drawAreas() {
    for (const outline of this.areasHere()) {
      const places = withCorners(outline, STEP * parts.size.width);
      this.drawAlong("area-outline", places.map((place) => (onBorder(place, parts.size) ? null : this.rayOfSource(place))));
    }
  },
  drawPoints() {
    const block = this.pointsShown ? this.blockHere() : null;
    const at = block ? this.frame - block.first : -1;
    if (!block || at < 0 || at >= block.frames) return;
    const { circle, square, crossed } = marks(MARK);
    const kinds = [
      { name: "believed", shape: circle, layer: 0 },
      { name: "other", shape: square, layer: 1 },
      { name: "ignored", shape: crossed, layer: -2 },
    ];
    for (const { name, shape, layer } of kinds) {
      /** @type {string[]} */ const drawn = [];
      for (let row = block.starts[at]; row < block.starts[at + 1]; row++) {
        const place = block.layer[row] === layer ? this.shownRay(this.rayOfSource([block.x[row], block.y[row]])) : null;
        if (place) drawn.push(shape(place));
      }
      const path = document.createElementNS(SVG, "path");
      path.setAttribute("class", name);
      path.setAttribute("d", drawn.join(""));
      parts.refs.overlay.append(path);
    }
  },
});

/** Whether a place lies on the picture's border, which is no side of anything seen. @param {number[]} place @param {{ width: number, height: number }} size */
const onBorder = ([x, y], { width, height }) => Math.min(Math.abs(x), Math.abs(width - 1 - x), Math.abs(y), Math.abs(height - 1 - y)) < BORDER_PX;

/** An outline with corners along its sides. @param {number[][]} outline @param {number} step @returns {number[][]} */
function withCorners(outline, step) {
  /** @type {number[][]} */ const found = outline.slice(0, 1);
  for (let i = 1; i < outline.length; i++) {
    const [[x0, y0], [x1, y1]] = [outline[i - 1], outline[i]];
    const parts = Math.max(1, Math.ceil(Math.hypot(x1 - x0, y1 - y0) / step));
    for (let part = 1; part <= parts; part++) found.push([x0 + ((x1 - x0) * part) / parts, y0 + ((y1 - y0) * part) / parts]);
  }
  return found;
}
