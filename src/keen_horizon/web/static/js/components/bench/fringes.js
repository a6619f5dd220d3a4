// @ts-check
// Coloured edges: red and blue against green, set by hand, or as the clip itself shows them.
import { ask } from "../../net.js";
import { copy } from "../../state/copy.js";
import { COLOURS as KEYED } from "./keying.js";

const HAZE = { amount: 0, hue_deg: 290, width_deg: 60 };
const PLAIN = { red: [0, 0], blue: [0, 0], centre_x: 0, centre_y: 0, haze: HAZE, keys: [] };
const COLOURS = /** @type {const} */ (["red", "blue"]);
/**
 * Figures of a colour stand in px at the corner; `part` is which one of the document's two they are.
 * @typedef {object} Figure
 * @property {string} name @property {string} label @property {number} low @property {number} high @property {number} step
 * @property {string} unit @property {number} initial @property {"red" | "blue"} [colour] @property {0 | 1} [part]
 * @property {"amount" | "hue_deg" | "width_deg"} [haze]
 */
/** @type {Figure[]} */
const FIGURES = [
  ...COLOURS.flatMap((colour) => /** @type {Figure[]} */ ([
    { name: `${colour}_even`, colour, part: 0, label: `${colour}, evenly outwards`, low: -8, high: 8, step: 0.02, unit: "px", initial: 0 },
    { name: `${colour}_late`, colour, part: 1, label: `${colour}, towards the corners`, low: -8, high: 8, step: 0.02, unit: "px", initial: 0 },
  ])),
  { name: "centre_x", label: "centre of the colours, across", low: -0.3, high: 0.3, step: 0.002, unit: "", initial: 0 },
  { name: "centre_y", label: "centre of the colours, down", low: -0.3, high: 0.3, step: 0.002, unit: "", initial: 0 },
  { name: "haze_amount", haze: "amount", label: "haze along bright edges, less by", low: 0, high: 100, step: 1, unit: "%", initial: 0 },
  { name: "haze_hue", haze: "hue_deg", label: "hue of the haze", low: 0, high: 360, step: 1, unit: "°", initial: 290 },
  { name: "haze_width", haze: "width_deg", label: "hues that count as haze", low: 5, high: 180, step: 1, unit: "°", initial: 60 },
];
/** The plot's box, as the template has it, and what stands around its lines. */
const PLOT = { width: 264, height: 120, left: 30, right: 6, top: 8, bottom: 18 };
const LEAST_TOP = 0.5; // px that the plot spans at least

/** @typedef {{ x: number, y: number }} Place */

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const fringes = (parts) => {
  const half = Math.hypot(parts.page.info.width, parts.page.info.height) / 2;
  return {
    fringeFigures: FIGURES,
    /** @type {any} what the clip itself showed of its fringes */ foundFringe: parts.page.found_fringe,

    fringe() {
      return this.t.optics.fringe;
    },
    /** The same with its figures at the playhead. */
    fringeHere() {
      return this.glassHere(this.fringe(), KEYED);
    },
    toggleFringeKeys() {
      this.toggleKeys(KEYED);
    },
    /** @param {string} name @returns {number} */
    fringeValue(name) {
      const figure = FIGURES.find((each) => each.name === name);
      const fringe = this.fringeHere() || PLAIN;
      if (!figure) return 0;
      if (figure.haze !== undefined) return figure.haze === "amount" ? Math.round(100 * fringe.haze.amount) : fringe.haze[figure.haze];
      if (figure.colour === undefined || figure.part === undefined) return Math.round(1000 * fringe[figure.name]) / 1000;
      return Math.round(100 * half * fringe[figure.colour][figure.part]) / 100;
    },
    /** @param {string} name @param {string | number} text @param {boolean} settled */
    setFringe(name, text, settled) {
      const value = Number(text);
      const figure = FIGURES.find((each) => each.name === name);
      if (text === "" || Number.isNaN(value) || !figure) return;
      const within = Math.min(figure.high, Math.max(figure.low, value));
      const fringe = copy(this.fringeHere() || PLAIN);
      if (figure.colour !== undefined && figure.part !== undefined) fringe[figure.colour][figure.part] = Math.min(0.02, Math.max(-0.02, Math.round((1e7 * within) / half) / 1e7));
      else if (figure.haze !== undefined) fringe.haze[figure.haze] = figure.haze === "amount" ? within / 100 : within;
      else fringe[figure.name] = within;
      this.putGlass("fringe", KEYED, fringe);
      settled ? this.settled() : this.changed();
    },
    removeFringe() {
      this.t.optics.fringe = null;
      this.settled();
    },
    /** By how much the colours are moved at the corners, outwards, in one line. */
    fringeText() {
      const fringe = this.fringeHere();
      if (!fringe) return "as shot";
      const [red, blue] = COLOURS.map((colour) => half * (fringe[colour][0] + fringe[colour][1]));
      const haze = fringe.haze.amount ? ", less haze" : "";
      return `red ${signed(-red)}, blue ${signed(-blue)} px${haze}`;
    },
    lookForFringe() {
      return this.attempt(async () => this.worked((await ask("POST", `${parts.address}/fringe`, this.t)).work));
    },
    /** What the clip told of its fringes. */
    foundFringeText() {
      const found = this.foundFringe;
      if (!found) return "";
      const told = COLOURS.map((colour, i) => `${colour} ${signed(half * (found[colour][0] + found[colour][1]))} ± ${(half * found.doubts[i]).toFixed(2)} px`);
      if (half * Math.max(...found.doubts) > 50) return "The clip does not tell: it has too few sharp edges.";
      const said = `Measured outwards at the corners: ${told.join(", ")}.`;
      return found.enough ? said : `${said} Too doubtful to be taken unasked.`;
    },
    useFoundFringe() {
      const { red, blue, centre_x, centre_y } = copy(this.foundFringe);
      this.putGlass("fringe", KEYED, { ...(this.fringeHere() || PLAIN), red, blue, centre_x, centre_y });
      this.settled();
    },

    /** Whether there is anything to plot. */
    fringePlotted() {
      return Boolean(this.fringe() || (this.foundFringe && this.foundFringe.edges.red.length));
    },
    /** The largest shift that the plot spans, px. */
    plotSpan() {
      const edges = this.foundFringe ? COLOURS.flatMap((colour) => this.foundFringe.edges[colour]) : [];
      const sizes = edges.map(([, shift]) => half * Math.abs(shift)).sort((a, b) => a - b);
      const usual = sizes.length ? sizes[Math.floor(0.95 * (sizes.length - 1))] : 0; // a stray edge spans no plot
      const fringe = this.fringeHere() || PLAIN;
      return Math.max(LEAST_TOP, 1.15 * usual, ...COLOURS.map((colour) => 1.15 * half * Math.abs(fringe[colour][0] + fringe[colour][1])));
    },
    /** @param {number} radius @param {number} shift half-diagonals @returns {Place} */
    plotPlace(radius, shift) {
      const [wide, tall] = [PLOT.width - PLOT.left - PLOT.right, PLOT.height - PLOT.top - PLOT.bottom];
      const share = Math.min(1, Math.max(-1, (half * shift) / this.plotSpan()));
      return { x: PLOT.left + wide * Math.min(1, radius), y: PLOT.top + (tall * (1 - share)) / 2 };
    },
    plotAxes() {
      const [low, middle] = [PLOT.height - PLOT.bottom, (PLOT.top + PLOT.height - PLOT.bottom) / 2];
      return `M${PLOT.left} ${PLOT.top}V${low}M${PLOT.left} ${middle}H${PLOT.width - PLOT.right}`;
    },
    /** Measured edges of a colour as an SVG path: crosses for red, lying ones for blue. @param {"red" | "blue"} colour */
    plotEdges(colour) {
      if (!this.foundFringe) return "";
      const mark = colour === "red" ? "m-2 0h4m-2 -2v4" : "m-1.6 -1.6l3.2 3.2m0 -3.2l-3.2 3.2";
      return this.foundFringe.edges[colour].map((/** @type {[number, number]} */ edge) => {
        const { x, y } = this.plotPlace(...edge);
        return `M${x.toFixed(1)} ${y.toFixed(1)}${mark}`;
      }).join("");
    },
    /** What is undone of a colour, as an SVG path. @param {"red" | "blue"} colour */
    plotLine(colour) {
      const [even, late] = (this.fringeHere() || PLAIN)[colour];
      const places = Array.from({ length: 25 }, (_, i) => i / 24).map((radius) => this.plotPlace(radius, radius * (even + late * radius ** 2)));
      return `M${places.map(({ x, y }) => `${x.toFixed(1)} ${y.toFixed(1)}`).join("L")}`;
    },
  };
};

/** @param {number} value */
const signed = (value) => `${value > 0 ? "+" : value < 0 ? "−" : ""}${Math.abs(value).toFixed(2)}`;
