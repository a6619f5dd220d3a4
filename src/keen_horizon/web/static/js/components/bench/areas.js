// @ts-check
// Areas of the picture that are ignored: drawn by hand on any frame, on either bench.
import { gripping } from "./tool.js";

const LEAST_STEP = 6; // px on screen between corners that a drag draws
const ALL_AROUND = 6.28; // rad
const MOST_CORNERS = 200;

/** @typedef {{ name: string, follows: boolean, only: boolean, hidden: boolean, span: number[] | null, keys: AreaKey[] }} Area */
/** @typedef {import("../../types.js").AreaKey} AreaKey */

export const areaTool = gripping({
  text: () => "Draw around what is to be ignored.",
  press: (bench, place) => bench.beginArea(place),
  drag: (bench, place) => bench.drawArea(place),
  release: (bench) => bench.areaDrawn.length && bench.releaseArea(),
  forget: (bench) => (bench.areaDrawn = []),
});

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const areas = (parts) => ({
  /** Corners of the area being drawn, in the source. @type {number[][]} */ areaDrawn: [],

  /** @returns {Area[]} */
  areas() {
    return this.t.motion.ignore;
  },
  /** Outlines of this frame's areas that are drawn, in the source. @returns {number[][][]} */
  areasHere() {
    const drawn = this.areaDrawn.length ? [this.areaDrawn] : [];
    if (this.stage !== "motion") return drawn;
    const block = this.areas().length ? this.blockHere() : null;
    const at = block ? this.frame - block.first : -1;
    this.areas().forEach((/** @type {Area} */ area, /** @type {number} */ index) => {
      if (area.hidden) return;
      const key = area.keys.find((each) => each.frame === this.frame);
      const polygon = block && block.areas[index] ? block.areas[index][at] : key && key.polygon;
      if (polygon) drawn.push([...polygon, polygon[0]]);
    });
    return drawn;
  },
  /** The same as they lie in what is on show. @returns {number[][][]} */
  areasShown() {
    return this.areasHere().map((/** @type {number[][]} */ outline) => outline.map((place) => this.shownAt(place)));
  },

  armArea() {
    this.areaDrawn = [];
    this.aim = this.aiming("area") ? null : { what: "area", grip: null };
    this.drawOver();
  },
  /** @param {number[]} place in the source */
  beginArea(place) {
    this.areaDrawn = [place];
    this.aim = { ...this.aim, grip: true };
  },
  /** @param {number[]} place in the source */
  drawArea(place) {
    const [x, y] = this.areaDrawn[this.areaDrawn.length - 1];
    if (goesRound(parts)) place = [place[0] + parts.size.width * Math.round((x - place[0]) / parts.size.width), place[1]];
    const step = LEAST_STEP * (parts.size.width / parts.refs.canvas.getBoundingClientRect().width);
    if (Math.hypot(place[0] - x, place[1] - y) < step) return;
    this.areaDrawn = [...this.areaDrawn, place];
    this.drawOver();
  },
  releaseArea() {
    const drawn = thinned(this.areaDrawn, MOST_CORNERS);
    const outline = goesRound(parts) ? closedAround(drawn, parts.size) : drawn;
    const polygon = outline.map((/** @type {number[]} */ place) => place.map((value) => Math.round(10 * value) / 10));
    this.areaDrawn = [];
    const { index } = /** @type {any} */ (this.aim);
    this.aim = null;
    if (polygon.length < 3) return this.drawOver();
    const key = { frame: this.frame, polygon };
    if (index !== undefined && this.areas()[index]) return this.addAreaKey(index, key);
    this.addArea({ name: `Area ${this.areas().length + 1}`, follows: true, only: false, hidden: false, span: null, keys: [key] });
  },
  /** Draw an area's outline anew on this frame. @param {number} index */
  armAreaKey(index) {
    this.armArea();
    if (this.aim) this.aim = { what: "area", grip: null, index };
  },
  /** @param {number} index @param {AreaKey} key */
  addAreaKey(index, key) {
    const area = this.areas()[index];
    area.keys = [...area.keys.filter((/** @type {AreaKey} */ old) => old.frame !== key.frame), key].sort((a, b) => a.frame - b.frame);
    this.settled();
  },
  /** @param {Area} area */
  addArea(area) {
    this.t.motion.ignore = [...this.areas(), area];
    this.settled();
  },
  /** @param {number} index @param {"name" | "follows" | "only" | "hidden"} what @param {any} value */
  setArea(index, what, value) {
    const area = /** @type {any} */ (this.areas()[index]);
    if (what === "name" && !String(value).trim()) return;
    area[what] = what === "name" ? String(value).trim().slice(0, 80) : value;
    this.settled();
  },
  /** @param {number} index */
  removeArea(index) {
    this.t.motion.ignore = this.areas().filter((/** @type {Area} */ _, /** @type {number} */ i) => i !== index);
    this.settled();
  },
  /** @param {Area} area */
  areaText(area) {
    const set = `drawn on ${area.keys.length > 3 ? `${area.keys.length} frames` : area.keys.map((key) => key.frame).join(", ")}`;
    return area.span ? `${set}; frames ${area.span[0]}-${area.span[1]}` : set;
  },
});

/** At most so many of a polygon's corners. @param {number[][]} polygon @param {number} most @returns {number[][]} */
function thinned(polygon, most) {
  const step = Math.ceil(polygon.length / most);
  return polygon.filter((_, i) => i % step === 0);
}

/** Whether the clip's own picture goes on at its other side. @param {import("./parts.js").Parts} parts */
const goesRound = (parts) => (parts.page.info.across || 0) > ALL_AROUND;

/** An outline that goes all around goes on along the pole that it holds. @param {number[][]} polygon @param {{ width: number, height: number }} size @returns {number[][]} */
function closedAround(polygon, { width, height }) {
  const [first, last] = [polygon[0], polygon[polygon.length - 1]];
  if (Math.abs(last[0] - first[0]) < width / 2) return polygon;
  const middle = polygon.reduce((sum, [, y]) => sum + y, 0) / polygon.length;
  const pole = middle > height / 2 ? height - 0.5 : -0.5;
  return [...polygon, [last[0], pole], [first[0], pole]];
}
