// @ts-check
// Pointing at the picture: setting pinned points, and drawing lines along what is level or vertical.
import { bent, lensAt, straightened } from "../../geometry/lens.js";
import { inverse, mapped } from "../../geometry/matrix.js";
import { meshAt, meshed, unmeshed } from "../../geometry/mesh.js";

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const aiming = (parts) => ({
  armGrid() {
    this.aim = this.aiming("grid") ? null : { what: "grid", from: null };
  },
  aimText() {
    if (!this.aim) return "";
    if (this.aim.what === "pin") return `Click point ${this.aim.index + 1} in the picture, on something with texture.`;
    if (this.aim.what === "edge") return "Click along something straight, end to end; three points or more. Drag a point to move it.";
    if (this.aim.what === "corners") return `Click the corners of something that should be a rectangle: ${4 - this.quad.length} to go.`;
    if (this.aim.what === "flat") return `Click the four corners of the flat thing: ${4 - this.flatCorners.length} to go.`;
    if (this.aim.what === "ring") return "Drag the middle; on the right, the ring's size; on the left, how far it is pushed out.";
    if (this.aim.what === "light") return "Rings lie where 90, 75 and 50 % of the light is left. Drag one to where that is so, or the middle to where it is brightest.";
    if (this.aim.what === "scope") return "Drag over what is to be counted, or along a line.";
    if (this.aim.what === "area") return "Draw around what is to be ignored.";
    if (this.aim.what === "still") return "Click on what is to stand still.";
    if (this.aim.what === "dead") return "Drag the edge to where the light is half gone, or the middle of its circle.";
    return "Drag along something level, like a horizon, or vertical, like a wall.";
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
    if (!this.aim && this.pointsShown) this.tellPoint(this.placeOf(event));
    if (!this.aim) return this.pointed(event);
    const place = this.placeOf(event);
    if (this.aim.what === "still") return this.setStill(place);
    if (this.aim.what === "pin") {
      this.setMark(this.aim.index, place);
      this.aim = null;
      return;
    }
    /** @type {HTMLElement} */ (event.currentTarget).setPointerCapture(event.pointerId);
    if (this.aim.what === "area") return this.beginArea(place);
    if (this.aim.what === "edge") return this.gripEdge(place);
    if (this.aim.what === "ring") return this.gripRing(place);
    if (this.aim.what === "light") return this.gripLight(place);
    if (this.aim.what === "dead") return this.gripDead(place);
    if (this.aim.what === "scope") return this.gripScope(event);
    if (this.aim.what === "corners") return this.addCorner(place);
    if (this.aim.what === "flat") return this.addFlatCorner(place);
    this.aim = { ...this.aim, from: place };
  },
  /** @param {PointerEvent} event */
  moved(event) {
    if (this.aiming("area") && this.areaDrawn.length) return this.drawArea(this.placeOf(event));
    if (this.aiming("edge") && this.aim.grip) return this.dragEdge(this.placeOf(event));
    if (this.aiming("ring") && this.aim.grip !== null) return this.dragRing(this.placeOf(event));
    if (this.aiming("light") && this.aim.grip !== null) return this.dragLight(this.placeOf(event));
    if (this.aiming("dead") && this.aim.grip !== null) return this.dragDead(this.placeOf(event));
    if (this.aiming("scope") && this.aim.grip !== null) return this.dragScope(event);
    if (!this.aim || !this.aim.from) return this.pointed(event);
    this.drawing = [...this.aim.from, ...this.placeOf(event)];
    this.drawOver();
  },
  released() {
    if (this.aiming("area") && this.areaDrawn.length) return this.releaseArea();
    if (this.aiming("edge")) return this.releaseEdge();
    if (this.aiming("ring")) return this.releaseRing();
    if (this.aiming("light")) return this.releaseLight();
    if (this.aiming("dead")) return this.releaseDead();
    if (this.aiming("scope")) return this.releaseScope();
    if (!this.drawing) return;
    const [x1, y1, x2, y2] = this.drawing.map((/** @type {number} */ value) => Math.round(10 * value) / 10);
    const { what } = this.aim;
    this.drawing = this.aim = null;
    if (Math.hypot(x2 - x1, y2 - y1) < 12) return this.drawOver();
    if (what === "world line") return this.addWorldLine([x1, y1, x2, y2]);
    if (what === "grid") return this.turnGridAlong(this.shownAt([x1, y1]), this.shownAt([x2, y2]));
    this.addLevelLine([x1, y1, x2, y2]);
  },
  /** Drawn lines of this frame as they lie in what is on show. @returns {number[][]} */
  linesShown() {
    const drawing = [...this.levelLinesHere(), ...this.turnLinesShown(), ...(this.drawing ? [this.drawing] : [])];
    const flat = this.stage === "output" ? this.flatLines() : [];
    return [...drawing.map(([x1, y1, x2, y2]) => [...this.shownAt([x1, y1]), ...this.shownAt([x2, y2])]), ...flat];
  },
});
