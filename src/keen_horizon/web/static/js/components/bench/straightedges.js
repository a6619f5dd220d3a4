// @ts-check
// Straightedges: points drawn in the viewer along what is straight (see aiming.js), and the lens that they tell.
import { ask } from "../../net.js";
import { copy } from "../../state/copy.js";
import { FAMILIES, plain } from "./glass.js";
import { gripping } from "./tool.js";

/** @typedef {import("../../types.js").Straightedge} Straightedge */

const GRIP_PX = 9; // on the screen
const USED_FROM = 3;

export const edgeTool = gripping({
  text: () => "Click along something straight, end to end; three points or more. Drag a point to move it.",
  press: (bench, place) => bench.gripEdge(place),
  drag: (bench, place) => bench.dragEdge(place),
  release: (bench) => bench.releaseEdge(),
});

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const straightedges = (parts) => {
  /** @type {AbortController | null} */ let finding = null;
  return {
    /** The family that straightedges must fit; "" lets the software choose. */
    family: "",
    /** @type {any} how well the straightedges fit the lens */ straightness: null,

    edges() {
      return this.t.optics.straightedges;
    },
    armEdge() {
      this.aim = this.aiming("edge") ? null : { what: "edge", grip: null };
      this.draw();
    },
    /** A new line begins with the next click. */
    nextEdge() {
      this.drawnEdge = -1;
      this.aim = { what: "edge", grip: null };
    },
    /** Which straightedge the next point belongs to; -1 begins one. */
    drawnEdge: -1,
    /** Take hold of a point near by, or set a new one. @param {number[]} place in the source */
    gripEdge(place) {
      const grip = this.nearPoint(place);
      if (grip) this.drawnEdge = grip[0];
      else {
        const open = this.edges()[this.drawnEdge];
        if (!open || open.frame !== this.frame) {
          this.edges().push({ frame: this.frame, points: [] });
          this.drawnEdge = this.edges().length - 1;
        }
        insert(this.edges()[this.drawnEdge].points, rounded(place));
      }
      this.aim = { what: "edge", grip: grip || this.nearPoint(place) };
      this.drawOver();
      this.findLens();
    },
    /** @param {number[]} place */
    dragEdge(place) {
      const [edge, point] = this.aim.grip;
      this.edges()[edge].points[point] = rounded(place);
      this.drawOver();
      this.findLens();
    },
    releaseEdge() {
      if (!this.aim.grip) return;
      const [edge, point] = this.aim.grip;
      this.aim = { what: "edge", grip: null };
      if (this.snap) return this.snapPoint(edge, point);
      this.settled();
    },
    /** Whether points go to the nearest clear edge. */
    snap: false,
    /** @param {number} edge @param {number} point */
    snapPoint(edge, point) {
      const [x, y] = this.edges()[edge].points[point];
      return this.attempt(async () => {
        const { place } = await ask("POST", `${parts.address}/snap`, { frame: this.edges()[edge].frame, x, y });
        if (place && this.edges()[edge]) this.edges()[edge].points[point] = place;
        this.drawOver();
        this.settled();
        await this.findLens();
      });
    },
    /** @param {number[]} place @returns {number[] | null} line and point under the pointer */
    nearPoint(place) {
      const box = parts.refs.canvas.getBoundingClientRect();
      const scale = (box.width || 960) / parts.size.width;
      const [x, y] = this.shownAt(place);
      for (const [i, edge] of this.edges().entries()) {
        if (edge.frame !== this.frame) continue;
        for (const [j, point] of edge.points.entries()) {
          const [px, py] = this.shownAt(point);
          if (Math.hypot(px - x, py - y) * scale < GRIP_PX) return [i, j];
        }
      }
      return null;
    },
    /** @param {number} index @param {"line" | "point"} what */
    dropEdge(index, what) {
      const edge = this.edges()[index];
      if (what === "point" && edge.points.length > 1) edge.points.pop();
      else this.edges().splice(index, 1);
      this.drawnEdge = -1;
      this.settled();
      this.findLens();
    },
    /** Straightedges of this frame as they lie in what is on show. @returns {number[][][]} */
    edgesShown() {
      if (this.stage !== "optics") return [];
      return this.edges().filter((/** @type {Straightedge} */ edge) => edge.frame === this.frame).map((/** @type {Straightedge} */ edge) => edge.points.map((/** @type {number[]} */ point) => this.shownAt(point)));
    },
    /** Where one more line would tell most, as it lies in what is on show, while lines are drawn. @returns {number[][]} */
    askedShown() {
      const asked = this.stage === "optics" && this.aiming("edge") && this.straightness && this.straightness.asked;
      return asked ? asked.map((/** @type {number[]} */ point) => this.shownAt(point)) : [];
    },
    /** Figures of the lens that are keyed, which straightedges tell for the playhead's frame. @returns {string[]} */
    keyedBends() {
      return this.lensFigures().map((/** @type {{ name: string }} */ part) => part.name).filter((/** @type {string} */ name) => name !== "canvas" && this.keys(name).length);
    },
    /** All straightedges, or with a keyed lens those of this frame; the others with too few points to count. */
    edgesThatCount() {
      const keyed = this.keyedBends().length > 0;
      return this.edges().map((/** @type {Straightedge} */ edge) => (keyed && edge.frame !== this.frame ? { ...edge, points: edge.points.slice(0, 1) } : edge));
    },
    /** The lens at the playhead. */
    lensHere() {
      const here = copy(this.lens());
      for (const { name } of this.lensFigures()) {
        if (!this.keys(name).length) continue;
        const [what, number] = name.split("_");
        if (what === "coefficient") here.coefficients[Number(number) - 1] = this.valueHere(name);
        else here[name] = this.valueHere(name);
      }
      here.coefficients = Array.from(here.coefficients, (/** @type {number} */ k) => k || 0);
      return here;
    },
    enough() {
      return this.edgesThatCount().some((/** @type {Straightedge} */ edge) => edge.points.length >= USED_FROM);
    },
    /** The lens anew from the straightedges, at every point. */
    async findLens() {
      if (!this.enough()) return void (this.straightness = null);
      const keyed = this.keyedBends();
      const found = await this.askLens({ straightedges: this.edgesThatCount(), family: keyed.length ? this.lens().family : this.family || null });
      if (!found) return;
      if (keyed.length) {
        const figures = { ...found.lens, ...Object.fromEntries(found.lens.coefficients.map((/** @type {number} */ k, /** @type {number} */ i) => [`coefficient_${i + 1}`, k])) };
        for (const name of keyed) this.place(name, figures[name] || 0);
      } else {
        const kept = this.lens() ? { canvas: this.lens().canvas, enlarge: this.lens().enlarge } : {};
        this.t.optics.lens = { ...plain(), ...found.lens, ...kept };
      }
      if (this.aim && this.aim.grip) this.changed();
      else this.settled();
    },
    /** How straight the straightedges are with the lens as it is. */
    async judgeLens() {
      if (this.lens() && this.enough()) await this.askLens({ straightedges: this.edgesThatCount(), given: this.lensHere() });
      else this.straightness = null;
    },
    /** @param {any} body @returns {Promise<any>} */
    async askLens(body) {
      if (finding) finding.abort();
      finding = new AbortController();
      try {
        this.straightness = await ask("POST", `${parts.address}/lens`, body, { signal: finding.signal });
        this.drawOver();
        return this.straightness;
      } catch (problem) {
        if (/** @type {Error} */ (problem).name !== "AbortError") this.error = /** @type {Error} */ (problem).message;
        return null;
      }
    },
    /** @param {string} family */
    fixFamily(family) {
      this.family = family;
      this.findLens();
    },
    /** @param {number} index */
    edgeText(index) {
      const edge = this.edges()[index];
      const line = this.straightness && this.straightness.lines.find((/** @type {{ edge: number }} */ found) => found.edge === index);
      if (!line) return `frame ${edge.frame}: ${edge.points.length} point${edge.points.length > 1 ? "s" : ""}, ${Math.max(0, USED_FROM - edge.points.length)} more needed`;
      return `frame ${edge.frame}: ${line.left_px.toFixed(2)} px left of ${line.bend_px.toFixed(2)} px`;
    },
    fitText() {
      if (!this.straightness) return "";
      const sure = this.straightness.ratio;
      const name = this.lensText();
      if (sure < 1.4) return `${name}: straight to within the hand's own noise.`;
      if (sure < 2) return `${name}: nearly straight, ${sure.toFixed(1)} times the hand's noise is left.`;
      return `△ ${name} cannot straighten these: ${sure.toFixed(1)} times the hand's noise is left.`;
    },
    adviceText() {
      if (!this.straightness) return "";
      const advice = [];
      if (this.straightness.odd !== null) advice.push(`△ Line ${this.straightness.odd + 1} disagrees with the others; is it straight?`);
      if (this.straightness.better) advice.push(`The ${FAMILIES[/** @type {keyof typeof FAMILIES} */ (this.straightness.better)][0]} would fit better.`);
      return advice.join(" ");
    },
    doubtText() {
      if (!this.straightness || this.straightness.doubt_px === null) return "";
      const left = `Straight things elsewhere may stay bent by ${this.straightness.doubt_px.toFixed(1)} px`;
      return this.straightness.asked ? `${left}: one more line, anywhere near the dashed one, would tell most.` : `${left}.`;
    },
  };
};

/** @param {number[]} place */
const rounded = (place) => place.map((value) => Math.round(20 * value) / 20);

/** Put a point where it lies along a line: at the nearer end, or between the two it lies between. @param {number[][]} points @param {number[]} point */
function insert(points, point) {
  const away = (/** @type {number[]} */ a, /** @type {number[]} */ b) => Math.hypot(a[0] - b[0], a[1] - b[1]);
  const added = points.map((here, i) => (i ? away(points[i - 1], point) + away(point, here) - away(points[i - 1], here) : away(point, here)));
  added.push(points.length ? away(points[points.length - 1], point) : 0);
  points.splice(added.indexOf(Math.min(...added)), 0, point);
}
