// @ts-check
// Pointing at the picture: setting pinned points, and drawing lines along what is level or vertical.
import { bent, lensAt, straightened } from "../../geometry/lens.js";
import { inverse, mapped } from "../../geometry/matrix.js";
import { meshAt, meshed, unmeshed } from "../../geometry/mesh.js";
import { TOOLS } from "./tools.js";

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const aiming = (parts) => ({
  armGrid() {
    this.aim = this.aiming("grid") ? null : { what: "grid", from: null };
  },
  /** The tool in hand. @returns {import("./tool.js").Tool | null} */
  tool() {
    return this.aim && TOOLS[this.aim.what];
  },
  /** Put it down; what was begun with it is forgotten. */
  putDown() {
    const tool = this.tool();
    if (!tool) return;
    if (tool.forget) tool.forget(this);
    this.aim = this.drawing = null;
    this.draw();
  },
  aimText() {
    return this.aim ? this.tool().text(this) : "";
  },
  /** Where an event lies in the source picture. @param {PointerEvent} event @returns {number[]} */
  placeOf(event) {
    const box = parts.refs.canvas.getBoundingClientRect();
    const place = parts.refs.still.getBoundingClientRect();
    const { left, top, width, height } = box.width ? box : place;
    const x = ((event.clientX - left) / width) * parts.size.width - 0.5;
    const y = ((event.clientY - top) / height) * parts.size.height - 0.5;
    return this.sourceAt([x, y]);
  },
  /** A point of what is on show in the source. @param {number[]} place @returns {number[]} */
  sourceAt(place) {
    if (this.shown() === "before") return place;
    const [x, y] = mapped(this.matrix(), place[0], place[1]);
    const lens = this.lensOf(this.path);
    return meshed(meshAt(this.path, this.frame), parts.size, lens ? bent(lens, parts.size, x, y) : [x, y]);
  },
  /** A point of the source in what is on show, or would be on a frame. @param {number[]} place @param {number} [frame] @returns {number[]} */
  shownAt(place, frame) {
    if (this.shown() === "before") return place;
    const lens = lensAt(this.path, frame ?? this.frame);
    const [u, v] = unmeshed(meshAt(this.path, frame ?? this.frame), parts.size, place);
    const [x, y] = lens ? straightened(lens, parts.size, u, v) : [u, v];
    return mapped(inverse(this.matrixOf(this.path, frame)), x, y);
  },
  /** @param {PointerEvent} event */
  pressed(event) {
    const tool = this.tool();
    if (!tool && this.pointsShown) this.tellPoint(this.placeOf(event));
    if (!tool) return this.pointed(event);
    if (tool.drag) /** @type {HTMLElement} */ (event.currentTarget).setPointerCapture(event.pointerId);
    tool.press(this, this.placeOf(event), event);
  },
  /** @param {PointerEvent} event */
  moved(event) {
    const tool = this.tool();
    if (!tool || !tool.drag || !tool.held(this)) return this.pointed(event);
    tool.drag(this, this.placeOf(event), event);
  },
  released() {
    const tool = this.tool();
    if (tool && tool.release) tool.release(this);
  },
  /** Drawn lines of this frame as they lie in what is on show. @returns {number[][]} */
  linesShown() {
    const drawing = [...this.levelLinesHere(), ...this.turnLinesShown(), ...(this.drawing ? [this.drawing] : [])];
    const flat = this.stage === "output" ? this.flatLines() : [];
    return [...drawing.map(([x1, y1, x2, y2]) => [...this.shownAt([x1, y1]), ...this.shownAt([x2, y2])]), ...flat];
  },
});
