// @ts-check
// Pointing at what a sphere's viewer shows: points to pin, lines along what is level or upright, and where the horizon is.
import { atMiddleRow, atOwnRow, rayAt, shareAt, turned } from "../../geometry/around.js";
import { transposed } from "../../geometry/matrix.js";
import { areaTool } from "../bench/areas.js";

const ARC_STEPS = 24;
const ROUND_STEPS = 180;
const ARM = 7; // of a pinned point's cross, CSS px
const SHORTEST = 12; // CSS px of a line that tells a direction

/** @param {import("../bench/parts.js").Parts} parts @returns {any} */
export const pointing = (parts) => ({
  horizon: false,
  /** Where the line that is being drawn began, CSS px. @type {[number, number] | null} */ began: null,

  aimText() {
    if (!this.aim) return "";
    if (this.aim.what === "pin") return `Click point ${this.aim.index + 1} in the picture, on something with texture.`;
    if (this.aim.what === "area") return areaTool.text(this);
    return "Drag along the horizon, or along something upright, like a mast or a wall.";
  },
  putDown() {
    this.aim = this.drawing = this.began = null;
    this.areaDrawn = [];
    this.draw();
  },
  horizonKnown() {
    return Boolean(this.path && this.path.up);
  },
  toggleHorizon() {
    this.horizon = !this.horizon;
    this.draw();
  },

  /** Where an event lies in the clip's own picture, px. @param {PointerEvent} event @returns {number[]} */
  placeOf(event) {
    const { clientWidth: width, clientHeight: height } = parts.refs.canvas;
    const { camera, turn, readTurn } = this.looksShown()[0];
    const ray = turned(turn, rayAt(camera, [event.offsetX / width, event.offsetY / height]));
    const [x, y, z] = atOwnRow(ray.map((part) => part / Math.hypot(...ray)), readTurn);
    const across = Math.atan2(x, z) / parts.page.info.across + 0.5;
    const down = Math.atan2(y, Math.hypot(x, z)) / Math.PI + 0.5;
    return [across * parts.size.width - 0.5, down * parts.size.height - 0.5];
  },
  /** The ray of a place in the clip's own picture, px. @param {number[]} place @returns {number[]} */
  rayOfSource([x, y]) {
    const longitude = ((x + 0.5) / parts.size.width - 0.5) * parts.page.info.across;
    const latitude = ((y + 0.5) / parts.size.height - 0.5) * Math.PI;
    return [Math.sin(longitude) * Math.cos(latitude), Math.sin(latitude), Math.cos(longitude) * Math.cos(latitude)];
  },
  /** Where a ray of the clip lies in what is shown large, CSS px; null where it is not seen. @param {number[]} ray @returns {number[] | null} */
  placed(ray) {
    const { camera, turn, readTurn } = this.looksShown()[0];
    const share = shareAt(camera, turned(transposed(turn), atMiddleRow(ray, readTurn)));
    const { clientWidth: width, clientHeight: height } = parts.refs.canvas;
    return share && share.every((part) => part > -1 && part < 2) ? [share[0] * width, share[1] * height] : null;
  },

  /** The same, and null where what is shown small lies over it. @param {number[]} ray @returns {number[] | null} */
  shownRay(ray) {
    const place = this.placed(ray);
    return place && !this.covered(place) ? place : null;
  },

  /** A press with a tool in hand. @param {PointerEvent} event */
  aimed(event) {
    if (this.aim.what === "pin") {
      this.setMark(this.aim.index, this.placeOf(event));
      this.aim = null;
      return;
    }
    /** @type {Element} */ (event.currentTarget).setPointerCapture(event.pointerId);
    if (this.aim.what === "area") return areaTool.press(this, this.placeOf(event), event);
    this.began = [event.offsetX, event.offsetY];
    this.aim = { what: "level", from: this.placeOf(event) };
  },
  /** A move with a tool in hand. @param {PointerEvent} event */
  draggedTool(event) {
    if (this.areaDrawn.length) return this.drawArea(this.placeOf(event));
    if (!this.began) return;
    const long = Math.hypot(event.offsetX - this.began[0], event.offsetY - this.began[1]) >= SHORTEST;
    this.drawing = long ? [...this.aim.from, ...this.placeOf(event)] : null;
    this.draw();
  },
  letGo() {
    if (this.areaDrawn.length) return this.releaseArea();
    const line = this.drawing;
    this.putDown();
    if (line) this.addLevelLine(line.map((/** @type {number} */ value) => Math.round(10 * value) / 10));
  },

  /** Pinned points, drawn lines and the horizon over the picture. */
  drawMarks() {
    const kept = this.stage === "motion" ? this.levelLinesHere() : [];
    const lines = this.drawing ? [...kept, this.drawing] : kept;
    for (const [x1, y1, x2, y2] of lines) this.drawArc("drawn-line", this.rayOfSource([x1, y1]), this.rayOfSource([x2, y2]));
    if (this.stage === "motion") this.drawAreas();
    if (this.stage === "motion") this.drawPoints();
    if (this.horizon) this.drawHorizon();
    if (!this.path || this.t.motion.intent !== "pin") return;
    for (const pin of this.path.pins) {
      const place = pin.points[this.frame - this.path.first];
      const at = place && this.shownRay(this.rayOfSource(place));
      if (!at) continue;
      this.drawLine("pin-cross", [[at[0] - ARM, at[1]], [at[0] + ARM, at[1]]]);
      this.drawLine("pin-cross", [[at[0], at[1] - ARM], [at[0], at[1] + ARM]]);
    }
  },
  /** The shortest way from a ray to another. @param {string} kind @param {number[]} from @param {number[]} to */
  drawArc(kind, from, to) {
    const steps = Array.from({ length: ARC_STEPS + 1 }, (_, step) => step / ARC_STEPS);
    this.drawAlong(kind, steps.map((part) => from.map((value, axis) => (1 - part) * value + part * to[axis])));
  },
  drawHorizon() {
    const up = this.path && this.path.up ? this.path.up[this.frame - this.path.first] : null;
    if (!up) return;
    const side = Math.abs(up[0]) < 0.9 ? [1, 0, 0] : [0, 0, 1];
    const right = unit(cross(up, side));
    const ahead = cross(right, up);
    const angles = Array.from({ length: ROUND_STEPS + 1 }, (_, step) => (2 * Math.PI * step) / ROUND_STEPS);
    this.drawAlong("horizon-line", angles.map((angle) => right.map((value, axis) => Math.cos(angle) * value + Math.sin(angle) * ahead[axis])));
  },
  /** A line through rays, parted where there is none, where it leaves the picture or its sides meet. @param {string} kind @param {(number[] | null)[]} rays */
  drawAlong(kind, rays) {
    const half = parts.refs.canvas.clientWidth / 2;
    /** @type {number[][]} */ let line = [];
    for (const place of [...rays.map((ray) => ray && this.shownRay(ray)), null]) {
      const last = line[line.length - 1];
      if (last && (!place || Math.abs(place[0] - last[0]) > half)) {
        if (line.length > 1) this.drawLine(kind, line);
        line = [];
      }
      if (place) line.push(place);
    }
  },
});

/** @param {number[]} a @param {number[]} b @returns {number[]} */
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];

/** @param {number[]} v @returns {number[]} */
const unit = (v) => v.map((value) => value / Math.hypot(...v));
