// @ts-check
// What the next press in the viewer does, on either bench; lines that an editor drew along what is level or upright.
import { lining } from "./tool.js";

/** @typedef {import("../../types.js").Line} Line */

/** @typedef {{ what: string, index?: number, from?: number[] | null, grip?: any }} Aim the tool in hand by its name in `tools.js`, what it is for, and what it holds */

export const levelTool = lining((bench, ends) => bench.addLevelLine(ends));

/** @returns {any} */
export const arming = () => ({
  /** What the next press in the viewer does; null when it does nothing. @type {Aim | null} */
  aim: null,
  /** The line being drawn, in the source. @type {number[] | null} */
  drawing: null,

  /** @param {number} index */
  armPin(index) {
    this.aim = this.aiming("pin", index) ? null : { what: "pin", index };
  },
  armLevel() {
    this.aim = this.aiming("level") ? null : { what: "level", from: null };
  },
  /** @param {string} what @param {number} [index] */
  aiming(what, index) {
    return this.aim !== null && this.aim.what === what && (index === undefined || this.aim.index === index);
  },
  /** Keep a drawn line of this frame, in the source. @param {number[]} ends */
  addLevelLine([x1, y1, x2, y2]) {
    const lines = this.t.motion.level.lines.filter((/** @type {Line} */ line) => line.frame !== this.frame);
    this.t.motion.level.lines = [...lines, { frame: this.frame, x1, y1, x2, y2 }].sort((a, b) => a.frame - b.frame);
    this.settled();
  },
  /** @param {number} index */
  removeLine(index) {
    this.t.motion.level.lines.splice(index, 1);
    this.settled();
  },
  /** Drawn lines of this frame, in the source. @returns {number[][]} */
  levelLinesHere() {
    const own = this.t.motion.intent === "level" ? this.t.motion.level.lines.filter((/** @type {Line} */ line) => line.frame === this.frame) : [];
    return own.map((/** @type {Line} */ line) => [line.x1, line.y1, line.x2, line.y2]);
  },
});
