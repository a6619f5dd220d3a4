// @ts-check
// Optics: the lens, set by hand, from a field of view, or as the clip itself shows it.
import { ask } from "../../net.js";
import { copy } from "../../state/copy.js";
import { CORNERS } from "./keying.js";

/** @typedef {import("../../types.js").Key} Key */
/** @typedef {import("../../types.js").Straightedge} Straightedge */
/** @typedef {import("../../types.js").Track} Track */

export const FAMILIES = {
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
const DECENTRING = ["p1", "p2"].map((name) => ({ name, label: name, low: -0.05, high: 0.05, step: 0.0005, initial: 0 }));
const WORTH_PX = 0.5; // at 1000 px wide: less is hardly seen
const ANGLES = [70, 90, 110, 120, 140, 150, 160, 170];

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const glass = (parts) => {
  const optics = parts.page.draft.optics;
  return {
    families: Object.entries(FAMILIES).map(([value, [label]]) => ({ value, label })),
    angles: ANGLES,

    /** Which of what may be wrong with the picture stands open: what is in use, at first. */
    groups: {
      bent: optics.lens !== null || optics.straightedges.length > 0,
      leaning: Object.values(optics.turn).some(Boolean) || optics.corners.some(Boolean) || optics.world_lines.length > 0,
      dark: optics.falloff !== null,
      coloured: optics.fringe !== null,
    },

    /** @param {"bent" | "leaning" | "dark" | "coloured"} name @param {boolean} open */
    groupToggled(name, open) {
      this.groups[name] = open;
      if (name === "dark") this.draw();
    },

    lens() {
      return this.t.optics.lens;
    },
    bentText() {
      if (!this.lens()) return this.lensOffered() ? `bent by ${((this.foundLens.bends_px * parts.page.info.width) / 1000).toFixed(1)} px, a lens is found` : "as shot";
      const name = FAMILIES[/** @type {keyof typeof FAMILIES} */ (this.lens().family)][0];
      return [name, this.lensPrice()].filter(Boolean).join(", ");
    },
    leaningText() {
      const { turn, corners, keys } = this.t.optics;
      const turned = Object.values(turn).some(Boolean) || keys.some((/** @type {Track} */ track) => track.figure.endsWith("_deg"));
      const moved = corners.some(Boolean) || keys.some((/** @type {Track} */ track) => CORNERS.includes(track.figure));
      return [turned ? "turned" : "", moved ? "corners moved" : ""].filter(Boolean).join(", ") || "as shot";
    },
    /** Whether anything is done to the picture before its motion. */
    opticsActive() {
      const { lens, turn, corners, projection, keys } = this.t.optics;
      return lens !== null || Object.values(turn).some(Boolean) || corners.some(Boolean) || projection !== "straight" || keys.length > 0;
    },
    lensText() {
      const lens = this.lens() ? FAMILIES[/** @type {keyof typeof FAMILIES} */ (this.lens().family)][0] : this.opticsActive() ? "turned" : "";
      return [lens, this.path && this.path.light && this.path.light.corner_stops >= 0.05 ? "corners lifted" : "", this.dead() ? "dead corners" : "", this.fringe() ? "colours laid together" : ""].filter(Boolean).join(", ") || (this.lensOffered() ? "no lens, one is found" : "no lens");
    },
    lensPrice() {
      return this.opticsActive() && this.path && this.path.lens ? `keeps ${(100 * this.path.lens.kept_area).toFixed(0)} %` : "";
    },
    /** @returns {string[]} what the lens does, in figures */
    lensFacts() {
      const drawn = /** @type {any} */ (this.lensOf(this.path));
      if (!drawn || !this.opticsActive()) return [];
      const facts = [`the middle is shown at ${(1 / drawn.step).toFixed(3)}×`, `${(100 * this.path.lens.kept_area).toFixed(1)} % of the source is in the frame`];
      if (this.lens() && this.lens().enlarge) facts.push(`delivered as ${this.outputText()}`);
      if (drawn.fields_of_view) {
        const [across, down, corner] = drawn.fields_of_view.map((/** @type {number} */ angle) => `${angle.toFixed(1)}°`);
        facts.push(`sees ${across} across, ${down} down, ${corner} corner to corner`);
      }
      if (drawn.equivalent_mm) facts.push(`as ${drawn.equivalent_mm.toFixed(1)} mm on a 36×24 mm frame`);
      return facts;
    },
    /** Every figure of the lens, each of which can be keyed. */
    lensFigures() {
      if (!this.lens()) return [];
      const names = /** @type {string[]} */ (FAMILIES[/** @type {keyof typeof FAMILIES} */ (this.lens().family)][1]);
      const bends = names.map((label, i) => {
        const scale = label === "w" ? { low: 0, high: 3 } : { low: -0.8, high: 0.8 };
        return { name: `coefficient_${i + 1}`, label, ...scale, step: 0.001, initial: 0 };
      });
      return [...bends, ...(this.lens().family === "polynomial" ? DECENTRING : []), ...FIGURES];
    },
    /** @param {any} lens */
    setLens(lens) {
      this.t.optics.lens = lens;
      this.settled();
      this.judgeLens();
    },
    /** @param {string} family keeps what the picture looks like as far as one figure can */
    setFamily(family) {
      this.t.optics.keys = this.t.optics.keys.filter((/** @type {Track} */ track) => !track.figure.startsWith("coefficient_"));
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
      this.t.optics.keys = this.t.optics.keys.filter((/** @type {Track} */ track) => !track.figure.startsWith("coefficient_"));
      this.setLens({ ...(this.lens() || plain()), p1: 0, p2: 0, family: "equidistant", coefficients: [half * half] });
    },
    /** @param {boolean} enlarge */
    setEnlarged(enlarge) {
      this.setLens({ ...this.lens(), enlarge });
    },
    /** Whether the frame shows more than the straightened picture fills. */
    lensLeavesGaps() {
      return this.lens() !== null && (this.lens().canvas > 0 || this.keys("canvas").some((/** @type {Key} */ key) => key.value > 0));
    },
    removeLens() {
      this.t.optics.keys = this.t.optics.keys.filter((/** @type {Track} */ track) => track.figure.endsWith("_deg") || CORNERS.includes(track.figure));
      this.setLens(null);
    },

    lookForLens() {
      this.lensAsked = true;
      return this.attempt(async () => {
        const { work } = await ask("POST", `${parts.address}/automatic-lens`, this.t);
        this.worked(work);
      });
    },
    /** Whether the editor asked for it, and takes what is found. */ lensAsked: false,
    /** @type {any} what the clip itself showed last */ foundLens: parts.page.found_lens,
    /** Whether a lens was found that straightens what can be seen to be bent, and none is set. */
    lensOffered() {
      return !this.lens() && Boolean(this.foundLens && this.foundLens.lens) && this.foundLens.bends_px >= WORTH_PX;
    },
    /** @returns {string} what tells the lens that was found, or why there is none where that was asked */
    foundText() {
      const found = this.foundLens;
      if (!found) return "";
      if (!found.lens) return this.lensAsked && !this.work("lens") ? found.why : "";
      const frames = new Set(found.straightedges.map((/** @type {Straightedge} */ edge) => edge.frame)).size;
      const edges = `${found.straightedges.length} edges on ${frames} frames`;
      const confidence = `confidence ${(100 * found.confidence).toFixed(0)} %`;
      if (found.by === "motion") return `The camera's motion tells this lens; ${confidence}.`;
      return `${found.by === "both" ? `The camera's motion and ${edges}` : edges} agree on this lens; ${confidence}.`;
    },
    /** Take what was found, or nothing where the clip told none. */
    useFound() {
      if (!this.foundLens || !this.foundLens.lens) return;
      const { lens, straightedges, by, focal } = copy(this.foundLens);
      if ((by || "edges") === "edges") this.t.optics.straightedges = straightedges; // they alone tell it again
      else if (focal) this.t.optics.focal = focal;
      this.lensAsked = false;
      this.setLens({ ...plain(), ...lens, ...(this.lens() ? { canvas: this.lens().canvas, enlarge: this.lens().enlarge } : {}) });
      this.drawOver();
    },
  };
};

/** A lens document without a bend. */
export const plain = () => ({ family: "division", coefficients: [0], centre_x: 0, centre_y: 0, squeeze: 1, p1: 0, p2: 0, canvas: 0, enlarge: false });

/** Whether a lens moves anything at all. @param {{ coefficients: number[], p1: number, p2: number, squeeze: number }} lens */
export const bends = ({ coefficients, p1, p2, squeeze }) => coefficients.some(Boolean) || Boolean(p1 || p2) || squeeze !== 1;
