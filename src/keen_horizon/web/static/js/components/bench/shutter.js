// @ts-check
// The rolling shutter: which readout is undone, what the clip told of it, and how far each row leans.
import { bent } from "../../geometry/lens.js";

const POLES = 5; // upright lines across the picture
const STEPS = 24; // points down each
const LARGER = 8; // times as far as they moved are rows drawn, since a pixel hardly shows

/** @typedef {{ place: [number, number], off: [number, number] }} Pole a point of an upright line, and how far rows moved it */

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const shutter = (parts) => ({
  shutterWays: [{ value: "measured", label: "measured" }, { value: "hand", label: "by hand" }, { value: "off", label: "off" }],
  /** Whether the lean of the rows is drawn over the picture. */ lean: false,

  /** @returns {"off" | "measured" | "hand"} */
  shutterWay() {
    const wanted = this.t.motion.rolling_shutter;
    return typeof wanted === "number" ? "hand" : wanted;
  },
  /** @param {"off" | "measured" | "hand"} way by hand goes on from what was measured */
  setShutterWay(way) {
    const told = this.path && this.path.readout;
    const from = told && told.enough ? Math.round(1000 * told.frames) / 1000 : 0.5;
    this.t.motion.rolling_shutter = way === "hand" ? from : way;
    this.settled();
  },
  /** The readout that is known of this camera mode: set by hand, else told surely. @returns {number | null} */
  knownReadout() {
    if (this.shutterWay() === "hand") return this.t.motion.rolling_shutter;
    const told = this.path && this.path.readout;
    return told && told.enough ? told.frames : null;
  },
  /** What the clip told of its readout. */
  readoutText() {
    const told = this.path && this.path.readout;
    if (!told || !this.path.measured) return "";
    if (!told.enough) return "The clip does not tell: it moves too little, or too evenly.";
    const confidence = `confidence ${(100 * told.confidence).toFixed(0)} %`;
    if (Math.abs(told.frames) < 0.03) return `Measured: all rows at once (${confidence}).`;
    return `Measured: ${Math.abs(told.frames).toFixed(2)} of a frame, the ${told.frames < 0 ? "last" : "first"} row first (${confidence}).`;
  },
  /** How far the rows of this frame lie from where its middle row saw them. */
  leanText() {
    const lens = this.lensOf(this.path);
    if (!lens || !lens.rows) return "";
    const furthest = Math.max(...this.poles(lens).flat().map((/** @type {Pole} */ { off }) => Math.hypot(...off)));
    return `up to ${furthest.toFixed(1)} px on this frame; drawn over “before” ${LARGER} times as large`;
  },
  toggleLean() {
    this.lean = !this.lean;
    this.drawOver();
  },
  /**
   * Upright lines as this frame's rows saw them: in the source, with how far each point was moved.
   * @param {import("../../geometry/lens.js").Lens} lens @returns {Pole[][]}
   */
  poles(lens) {
    const { width, height } = parts.size;
    const still = { ...lens, rows: null };
    return Array.from({ length: POLES }, (_, i) => {
      const x = ((i + 0.5) / POLES) * width - 0.5;
      return Array.from({ length: STEPS + 1 }, (_, j) => {
        const y = (j / STEPS) * height - 0.5;
        const [place, from] = [bent(lens, parts.size, x, y), bent(still, parts.size, x, y)];
        return { place, off: [place[0] - from[0], place[1] - from[1]] };
      });
    });
  },
  /** The same lines in what is on show: larger as shot, and as straight as they became after. @returns {number[][][]} */
  leanShown() {
    const lens = this.lean && this.stage === "motion" ? this.lensOf(this.path) : null;
    if (!lens || !lens.rows) return [];
    const more = this.shown() === "before" ? LARGER - 1 : 0;
    const drawn = (/** @type {Pole} */ { place: [x, y], off: [across, down] }) => this.shownAt([x + more * across, y + more * down]);
    return this.poles(lens).map((/** @type {Pole[]} */ pole) => pole.map(drawn));
  },
});
