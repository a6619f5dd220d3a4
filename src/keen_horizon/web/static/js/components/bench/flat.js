// @ts-check
// A flat thing for others' graphics: four corners set in the viewer (see aiming.js), followed, checked with a picture.
import { onto } from "../../geometry/matrix.js";
import { ask } from "../../net.js";
import { stretches } from "./pinned.js";

/** @typedef {import("../../types.js").FlatMark} FlatMark */

const FURTHEST = 4; // pictures' widths that a line to a vanishing point runs at most

/** @type {import("./tool.js").Tool} */
export const flatTool = {
  text: (bench) => `Click the four corners of the flat thing: ${4 - bench.flatCorners.length} to go.`,
  press: (bench, place) => bench.addFlatCorner(place),
  forget: (bench) => (bench.flatCorners = []),
};

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const flat = (parts) => ({
  /** Corners being set, in the source. @type {number[][]} */ flatCorners: [],
  /** A picture laid on the flat thing; "" for none. */ flatPicture: "",

  flatMarks() {
    return this.t.optics.flat ? this.t.optics.flat.marks : [];
  },
  armFlat() {
    this.flatCorners = [];
    this.aim = this.aiming("flat") ? null : { what: "flat", from: null };
    this.drawOver();
  },
  /** @param {number[]} place in the source */
  addFlatCorner(place) {
    this.flatCorners = [...this.flatCorners, place.map((value) => Math.round(100 * value) / 100)];
    if (this.flatCorners.length === 4) {
      const mark = { frame: this.frame, corners: clockwise(this.flatCorners) };
      const others = this.flatMarks().filter((/** @type {FlatMark} */ old) => old.frame !== mark.frame);
      this.t.optics.flat = { marks: [...others, mark].sort((a, b) => a.frame - b.frame) };
      this.flatCorners = [];
      this.aim = null;
      this.settled();
      this.followFlat();
    }
    this.drawOver();
  },
  followFlat() {
    return this.attempt(async () => {
      const { work } = await ask("POST", `${parts.address}/flat`, this.t);
      if (work) this.worked(work);
      else await this.solve();
    });
  },
  /** @param {number} index */
  removeFlat(index) {
    const marks = this.flatMarks().filter((/** @type {FlatMark} */ _, /** @type {number} */ i) => i !== index);
    this.t.optics.flat = marks.length ? { marks } : null;
    this.settled();
    if (marks.length) this.followFlat();
  },
  flatText() {
    if (!this.flatMarks().length) return "";
    if (!this.path || !this.path.flat) return this.work("flat") ? "" : "Not followed through this range with this lens yet.";
    const lost = stretches(this.path.flat.confidence, this.path.first);
    return lost.length ? `Lost in ${lost.slice(0, 4).join(", ")}: set the corners again near there.` : "Held throughout.";
  },
  flatFollowed() {
    return Boolean(this.path && this.path.flat);
  },
  /** Its corners as they lie in what is on show. @returns {number[][]} */
  flatShown() {
    if (this.flatCorners.length) return this.flatCorners.map((/** @type {number[]} */ place) => this.shownAt(place));
    const mark = this.flatMarks().find((/** @type {FlatMark} */ found) => found.frame === this.frame);
    const followed = this.path && this.path.flat && this.path.flat.corners[this.frame - this.path.first];
    const corners = followed || (mark && mark.corners);
    return corners ? corners.map((/** @type {number[]} */ place) => this.shownAt(place)) : [];
  },
  /** Its sides, and their lines to where opposite ones meet. @returns {number[][]} */
  flatLines() {
    const quad = this.flatShown();
    const sides = quad.slice(1).map((/** @type {number[]} */ place, /** @type {number} */ i) => [...quad[i], ...place]);
    if (quad.length < 4) return sides;
    const ways = [[0, 1, 3, 2], [1, 2, 0, 3]].flatMap(([a, b, c, d]) => towards(quad[a], quad[b], quad[c], quad[d], FURTHEST * parts.size.width));
    return [...sides, [...quad[3], ...quad[0]], ...ways];
  },
  /** @param {Event} event */
  choosePicture(event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const file = input.files && input.files[0];
    if (this.flatPicture.startsWith("blob:")) URL.revokeObjectURL(this.flatPicture);
    this.flatPicture = file ? URL.createObjectURL(file) : "";
    this.drawOver();
  },
  /** @param {boolean} on */
  showCheck(on) {
    this.flatPicture = on ? "/static/check.svg" : "";
    this.drawOver();
  },
  /** Whether straight things are straight in what is on show: a picture can be laid flat on them there only. */
  straightOnShow() {
    const { lens, projection } = this.t.optics;
    return this.shown() === "after" ? projection === "straight" : this.shown() === "before" && !lens;
  },
  /** Lay the picture on the flat thing. */
  layPicture() {
    const { check, canvas } = parts.refs;
    const quad = this.flatFollowed() && this.flatPicture && this.straightOnShow() ? this.flatShown() : [];
    check.hidden = quad.length !== 4;
    if (check.hidden) return;
    const scale = parseFloat(canvas.style.width) / parts.size.width;
    const m = onto(quad.map((/** @type {number[]} */ [x, y]) => [(x + 0.5) * scale, (y + 0.5) * scale]), check.offsetWidth, check.offsetHeight);
    check.style.transform = `matrix3d(${[m[0], m[3], 0, m[6], m[1], m[4], 0, m[7], 0, 0, 1, 0, m[2], m[5], 0, m[8]].join(",")})`;
    check.style.left = canvas.style.left;
    check.style.top = canvas.style.top;
  },
});

/** Four places clockwise from the top left. @param {number[][]} places @returns {number[][]} */
function clockwise(places) {
  const [x, y] = [0, 1].map((axis) => places.reduce((sum, place) => sum + place[axis], 0) / 4);
  const around = [...places].sort((a, b) => Math.atan2(a[1] - y, a[0] - x) - Math.atan2(b[1] - y, b[0] - x));
  const first = around.reduce((best, place, i) => (place[0] + place[1] < around[best][0] + around[best][1] ? i : best), 0);
  return [...around.slice(first), ...around.slice(0, first)];
}

/** Two opposite sides drawn on to where they meet. @param {number[]} a @param {number[]} b @param {number[]} c @param {number[]} d @param {number} furthest @returns {number[][]} */
function towards(a, b, c, d, furthest) {
  const [ux, uy, vx, vy] = [b[0] - a[0], b[1] - a[1], d[0] - c[0], d[1] - c[1]];
  const cross = ux * vy - uy * vx;
  if (Math.abs(cross) < 1e-6) return [];
  const along = ((c[0] - a[0]) * vy - (c[1] - a[1]) * vx) / cross;
  const meeting = [a[0] + along * ux, a[1] + along * uy];
  if (Math.hypot(meeting[0] - a[0], meeting[1] - a[1]) > furthest) return [];
  return along > 0 ? [[...b, ...meeting], [...d, ...meeting]] : [[...a, ...meeting], [...c, ...meeting]];
}
