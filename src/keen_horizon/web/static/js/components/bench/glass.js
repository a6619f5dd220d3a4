// @ts-check
// Optics: the lens, set by hand or found by straightedges that are drawn in the viewer (see aiming.js).
import { ask } from "../../net.js";
import { copy } from "../../state/copy.js";

const GRIP_PX = 9; // on the screen
const USED_FROM = 3;
const FAMILIES = {
  division: ["division", ["k1", "k2", "k3"]], inverse: ["inverse polynomial", ["k1", "k2", "k3"]],
  polynomial: ["polynomial", ["k1", "k2", "k3"]], equidistant: ["equidistant fisheye", ["w"]],
  equisolid: ["equisolid fisheye", ["w"]], stereographic: ["stereographic fisheye", ["w"]],
  series: ["fisheye series", ["w", "k1", "k2", "k3", "k4"]],
};
const FIGURES = [
  { name: "canvas", label: "no gap … nothing lost", low: 0, high: 1, step: 0.01, initial: 0 },
  { name: "centre_x", label: "centre, across", low: -0.2, high: 0.2, step: 0.001, initial: 0 },
  { name: "centre_y", label: "centre, down", low: -0.2, high: 0.2, step: 0.001, initial: 0 },
  { name: "squeeze", label: "squeeze", low: 0.5, high: 2, step: 0.01, initial: 1 },
];
const ANGLES = [70, 90, 110, 120, 140, 150, 160, 170];

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const glass = (parts) => {
  /** @type {AbortController | null} */ let finding = null;
  return {
    families: Object.entries(FAMILIES).map(([value, [label]]) => ({ value, label })),
    angles: ANGLES,
    /** The family that straightedges must fit; "" lets the software choose. */
    family: "",
    /** @type {any} how well the straightedges fit the lens */ straightness: null,

    lens() {
      return this.t.optics.lens;
    },
    edges() {
      return this.t.optics.straightedges;
    },
    lensText() {
      return this.lens() ? FAMILIES[/** @type {keyof typeof FAMILIES} */ (this.lens().family)][0] : "no lens";
    },
    lensPrice() {
      const drawn = this.lensOf(this.path);
      return drawn ? `keeps ${(100 * drawn.kept_area).toFixed(0)} %` : "";
    },
    /** @returns {string[]} what the lens does, in figures */
    lensFacts() {
      const drawn = this.lensOf(this.path);
      if (!drawn) return [];
      const facts = [`the middle is shown at ${drawn.middle.toFixed(3)}×`, `${(100 * drawn.kept_area).toFixed(1)} % of the source is in the frame`];
      if (this.lens().enlarge) facts.push(`delivered as ${this.outputText()}`);
      if (drawn.fields_of_view) {
        const [across, down, corner] = drawn.fields_of_view.map((/** @type {number} */ angle) => `${angle.toFixed(1)}°`);
        facts.push(`sees ${across} across, ${down} down, ${corner} corner to corner`);
      }
      if (drawn.equivalent_mm) facts.push(`as ${drawn.equivalent_mm.toFixed(1)} mm on a 36×24 mm frame`);
      return facts;
    },
    /** @returns {{ name: string, index: number }[]} */
    coefficients() {
      if (!this.lens()) return [];
      const names = /** @type {string[]} */ (FAMILIES[/** @type {keyof typeof FAMILIES} */ (this.lens().family)][1]);
      return names.map((name, index) => ({ name, index }));
    },
    /** @returns {{ name: string, label: string, low: number, high: number, step: number, initial: number }[]} */
    lensFigures() {
      return this.lens() ? FIGURES : [];
    },
    /** @param {any} lens */
    setLens(lens) {
      this.t.optics.lens = lens;
      this.settled();
      this.judgeLens();
    },
    /** @param {string} family keeps what the picture looks like as far as one figure can */
    setFamily(family) {
      const old = this.lens() || plain();
      const angular = (/** @type {string} */ name) => ["equidistant", "equisolid", "stereographic", "series"].includes(name);
      const bend = angular(old.family) ? -old.coefficients[0] / 4 : old.coefficients[0];
      const first = angular(family) ? Math.max(0, -4 * bend) : bend;
      this.setLens({ ...old, p1: 0, p2: 0, family, coefficients: [first] });
    },
    /** Start from a field of view, corner to corner. @param {string} degrees */
    startFromAngle(degrees) {
      const half = (Number(degrees) * Math.PI) / 360;
      if (!(half > 0.05 && half < 1.6)) return;
      this.setLens({ ...(this.lens() || plain()), p1: 0, p2: 0, family: "equidistant", coefficients: [half * half] });
    },
    /** @param {number} index @param {string} text @param {boolean} settled */
    setCoefficient(index, text, settled) {
      const value = Number(text);
      if (text === "" || Number.isNaN(value)) return;
      const all = [...this.lens().coefficients];
      while (all.length <= index) all.push(0);
      all[index] = value;
      this.t.optics.lens = { ...this.lens(), coefficients: all };
      if (settled) this.setLens(this.lens());
      else this.changed();
    },
    /** @param {number} index @returns {number} */
    coefficientOf(index) {
      return Math.round(1e4 * ((this.lens() && this.lens().coefficients[index]) || 0)) / 1e4;
    },
    /** @param {string} name @param {string | number} text @param {boolean} settled */
    setLensFigure(name, text, settled) {
      const value = Number(text);
      if (text === "" || Number.isNaN(value)) return;
      this.t.optics.lens = { ...this.lens(), [name]: value };
      if (settled) this.setLens(this.lens());
      else this.changed();
    },
    /** @param {boolean} enlarge */
    setEnlarged(enlarge) {
      this.setLens({ ...this.lens(), enlarge });
    },
    /** Whether the frame shows more than the straightened picture fills. */
    lensLeavesGaps() {
      return this.lens() !== null && this.lens().canvas > 0;
    },
    removeLens() {
      this.setLens(null);
    },

    lookForLens() {
      return this.attempt(async () => {
        const { work } = await ask("POST", `${parts.address}/automatic-lens`, this.t);
        this.worked(work);
      });
    },
    /** @type {any} what the clip itself showed last */ foundLens: parts.page.found_lens,
    foundText() {
      const found = this.foundLens;
      if (!found) return "";
      const frames = new Set(found.straightedges.map((/** @type {any} */ edge) => edge.frame)).size;
      return `${found.straightedges.length} edges on ${frames} frames agree on this lens; confidence ${(100 * found.confidence).toFixed(0)} %.`;
    },
    useFound() {
      const { lens, straightedges } = copy(this.foundLens);
      this.t.optics.straightedges = straightedges;
      this.setLens({ ...plain(), ...lens, ...(this.lens() ? { canvas: this.lens().canvas, enlarge: this.lens().enlarge } : {}) });
      this.drawOver();
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
      return this.edges().filter((/** @type {any} */ edge) => edge.frame === this.frame).map((/** @type {any} */ edge) => edge.points.map((/** @type {number[]} */ point) => this.shownAt(point)));
    },
    enough() {
      return this.edges().some((/** @type {any} */ edge) => edge.points.length >= USED_FROM);
    },
    /** The lens anew from the straightedges, at every point. */
    async findLens() {
      if (!this.enough()) return void (this.straightness = null);
      const found = await this.askLens({ straightedges: this.edges(), family: this.family || null });
      if (!found) return;
      const kept = this.lens() ? { canvas: this.lens().canvas, enlarge: this.lens().enlarge } : {};
      this.t.optics.lens = { ...plain(), ...found.lens, ...kept };
      if (this.aim && this.aim.grip) this.changed();
      else this.settled();
    },
    /** How straight the straightedges are with the lens as it is. */
    async judgeLens() {
      if (this.lens() && this.enough()) await this.askLens({ straightedges: this.edges(), given: this.lens() });
      else this.straightness = null;
    },
    /** @param {any} body @returns {Promise<any>} */
    async askLens(body) {
      if (finding) finding.abort();
      finding = new AbortController();
      try {
        this.straightness = await ask("POST", `${parts.address}/lens`, body, { signal: finding.signal });
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
      const line = this.straightness && this.straightness.lines.find((/** @type {any} */ found) => found.edge === index);
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
  };
};

/** A lens document without a bend. */
const plain = () => ({ family: "division", coefficients: [0], centre_x: 0, centre_y: 0, squeeze: 1, p1: 0, p2: 0, canvas: 0, enlarge: false });

/** @param {number[]} place */
const rounded = (place) => place.map((value) => Math.round(20 * value) / 20);

/** Put a point where it lies along a line: at the nearer end, or between the two it lies between. @param {number[][]} points @param {number[]} point */
function insert(points, point) {
  const away = (/** @type {number[]} */ a, /** @type {number[]} */ b) => Math.hypot(a[0] - b[0], a[1] - b[1]);
  const added = points.map((here, i) => (i ? away(points[i - 1], point) + away(point, here) - away(points[i - 1], here) : away(point, here)));
  added.push(points.length ? away(points[points.length - 1], point) : 0);
  points.splice(added.indexOf(Math.min(...added)), 0, point);
}
