// @ts-check
// Dead corners: where a hood, a filter or the image circle lets nothing through, set by hand, or as the clip itself shows it.
import { PLAIN } from "./light.js";
import { gripping } from "./tool.js";

const EDGE = { radius: null, centre_x: 0, centre_y: 0, sides: [], softness: 0, least_light: 0.9 };
const AT_FIRST = 0.95; // half-diagonals, that an edge drawn by hand begins at
const NEARER_PX = 24; // on screen, that an edge is taken hold of from
const STRAIGHT = { left: 180, right: 0, top: -90, bottom: 90 }; // outward normals, degrees clockwise from the right
const SIDE_DEG = 12; // that a straight edge may slant and still be called after its side
/**
 * @typedef {object} Figure
 * @property {string} name @property {string} label @property {number} low @property {number} high @property {number} step
 * @property {string} unit @property {number} initial @property {keyof typeof STRAIGHT} [side]
 */
/** @type {Figure[]} */
const FIGURES = [
  { name: "radius", label: "round edge, of the way to the corners", low: 20, high: 120, step: 0.1, unit: "%", initial: 120 },
  { name: "centre_x", label: "its middle, across", low: -0.3, high: 0.3, step: 0.002, unit: "", initial: 0 },
  { name: "centre_y", label: "its middle, down", low: -0.3, high: 0.3, step: 0.002, unit: "", initial: 0 },
  ...(/** @type {(keyof typeof STRAIGHT)[]} */ (Object.keys(STRAIGHT))).map((side) => (
    { name: side, side, label: `dead strip, ${side}`, low: 0, high: 30, step: 0.1, unit: "%", initial: 0 }
  )),
  { name: "softness", label: "shade across the edge", low: 0, high: 40, step: 0.1, unit: "%", initial: 0 },
  { name: "least_light", label: "counts as picture from, of the light", low: 5, high: 100, step: 1, unit: "%", initial: 90 },
];
const NO_CIRCLE = 1.2; // half-diagonals, beyond every corner

/** @typedef {{ angle_deg: number, distance: number }} Side */
/** @typedef {{ radius: number | null, centre_x: number, centre_y: number, sides: Side[], softness: number, least_light: number }} Edge */

/** @param {Side} side @param {number} angle */
const along = (side, angle) => Math.abs(((side.angle_deg - angle + 540) % 360) - 180) < SIDE_DEG;

export const deadTool = gripping({
  text: () => "Drag the edge to where the light is half gone, or the middle of its circle.",
  press: (bench, place) => bench.gripDead(place),
  drag: (bench, place) => bench.dragDead(place),
  release: (bench) => bench.releaseDead(),
});

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const dead = (parts) => {
  const { width, height } = parts.page.info;
  const half = Math.hypot(width, height) / 2;
  /** From the frame's middle to a side of it. @param {keyof typeof STRAIGHT} side */
  const reach = (side) => (side === "left" || side === "right" ? width : height) / 2 / half;
  const round = (/** @type {number} */ value) => Math.round(1e5 * value) / 1e5;
  return {
    deadFigures: FIGURES,

    /** @returns {Edge | null} */
    dead() {
      const falloff = this.falloff();
      if (!falloff) return null;
      if (falloff.dead_edge) return falloff.dead_edge;
      return falloff.dead_radius ? { ...EDGE, radius: falloff.dead_radius, centre_x: falloff.centre_x, centre_y: falloff.centre_y } : null;
    },
    /** Without an edge, nothing stays of a fall-off that lifts nothing. @param {Edge | null} edge */
    setEdge(edge) {
      const kept = edge && (edge.radius !== null || edge.sides.length) ? edge : null;
      const falloff = { ...(this.falloff() || { ...PLAIN, coefficients: [0] }), dead_edge: kept, dead_radius: null };
      const stays = kept || falloff.coefficients.some(Boolean) || (falloff.keys || []).length > 0;
      this.t.optics.falloff = stays ? falloff : null;
    },
    /** @param {string} name @returns {number} */
    deadValue(name) {
      const figure = FIGURES.find((each) => each.name === name);
      const edge = this.dead();
      if (!figure || !edge) return figure ? figure.initial : 0;
      const percent = (/** @type {number} */ share) => Math.round(1000 * share) / 10;
      const { side } = figure;
      if (side) {
        const known = edge.sides.find((/** @type {Side} */ each) => along(each, STRAIGHT[side]));
        return known ? percent((reach(side) - known.distance) / (2 * reach(side))) : 0;
      }
      if (name === "radius") return edge.radius === null ? 120 : percent(edge.radius);
      return figure.unit === "%" ? percent(edge[name]) : Math.round(1000 * edge[name]) / 1000;
    },
    /** @param {string} name @param {string | number} text @param {boolean} settled */
    setDead(name, text, settled) {
      const value = Number(text);
      const figure = FIGURES.find((each) => each.name === name);
      if (text === "" || Number.isNaN(value) || !figure) return;
      const within = Math.min(figure.high, Math.max(figure.low, value));
      const edge = { ...(this.dead() || EDGE) };
      const { side } = figure;
      if (side) {
        const others = edge.sides.filter((/** @type {Side} */ each) => !along(each, STRAIGHT[side]));
        const distance = round(reach(side) * (1 - within / 50));
        edge.sides = within ? [...others, { angle_deg: STRAIGHT[side], distance }] : others;
      } else if (name === "radius") edge.radius = within / 100 < NO_CIRCLE ? round(within / 100) : null;
      else edge[name] = figure.unit === "%" ? within / 100 : within;
      this.setEdge(edge);
      settled ? this.settled() : this.changed();
      this.drawOver();
    },
    removeDead() {
      this.setEdge(null);
      this.aim = null;
      this.settled();
    },
    /** Whether the zoom limit leaves some of it in sight. */
    deadInSight() {
      const { dead = null, ledger = null } = this.path || {};
      return dead !== null && this.t.edges.way !== "leave" && ledger.gap_area > 0 && this.t.edges.zoom_limit < dead.limit;
    },
    deadInSightText() {
      return this.deadInSight() ? `The zoom limit leaves some of it in sight, ${(100 * this.path.ledger.gap_area).toFixed(1)} % of the picture at most.` : "";
    },
    hideText() {
      return this.deadInSight() ? `Hide it: limit ${this.path.dead.limit.toFixed(2)}x` : "";
    },
    hideDead() {
      this.t.edges.zoom_limit = Math.min(3, this.path.dead.limit);
      this.settled();
    },
    /** Whether what is dead is shown behind a veil in the picture as shot. */
    veiled() {
      return this.stage === "optics" && this.groups.dark;
    },

    /** The edge, to be dragged. */
    armDead() {
      if (!this.dead()) {
        this.setEdge({ ...EDGE, radius: AT_FIRST });
        this.settled();
      }
      this.aim = this.aiming("dead") ? null : { what: "dead", grip: null };
      this.drawOver();
    },
    /** A place of the source, px, half-diagonals from its middle. @param {number} x @param {number} y @returns {[number, number]} */
    deadPlace: (x, y) => [(width - 1) / 2 + half * x, (height - 1) / 2 + half * y],
    /** @param {Side} side @param {number} [aside] along it, half-diagonals @returns {[number, number]} */
    sidePlace({ angle_deg, distance }, aside = 0) {
      const [x, y] = [Math.cos((angle_deg * Math.PI) / 180), Math.sin((angle_deg * Math.PI) / 180)];
      return this.deadPlace(distance * x - aside * y, distance * y + aside * x);
    },
    /** Places in the source that can be taken hold of: the circle's middle and right, and the middle of every straight edge. */
    deadHandles() {
      const edge = this.dead();
      if (!edge) return [];
      const circle = edge.radius === null ? [] : [[0, 0], [edge.radius * Math.cos(0.4), edge.radius * Math.sin(0.4)]];
      return [...circle.map(([x, y]) => this.deadPlace(edge.centre_x + x, edge.centre_y + y)), ...edge.sides.map((/** @type {Side} */ side) => this.sidePlace(side))];
    },
    /** @returns {number[][][]} the edge in what is on show */
    deadShown() {
      const edge = this.aiming("dead") ? this.dead() : null;
      if (!edge) return [];
      const turns = Array.from({ length: 73 }, (_, i) => (i * Math.PI) / 36);
      const circle = edge.radius === null ? [] : [turns.map((turn) => this.deadPlace(edge.centre_x + edge.radius * Math.cos(turn), edge.centre_y + edge.radius * Math.sin(turn)))];
      const asides = Array.from({ length: 41 }, (_, i) => (i - 20) / 20);
      const sides = edge.sides.map((/** @type {Side} */ side) => asides.map((aside) => this.sidePlace(side, aside)));
      return [...circle, ...sides].map((curve) => curve.map((/** @type {number[]} */ place) => this.shownAt(place)));
    },
    /** Take hold of what lies nearest: the circle's middle, the circle anywhere along it, or a straight edge. @param {number[]} place in the source */
    gripDead([x, y]) {
      const edge = this.dead();
      const [u, v] = [(x - (width - 1) / 2) / half, (y - (height - 1) / 2) / half];
      const away = edge.radius === null ? Infinity : Math.hypot(u - edge.centre_x, v - edge.centre_y);
      const fars = edge.sides.map((/** @type {Side} */ { angle_deg, distance }) => Math.abs(u * Math.cos((angle_deg * Math.PI) / 180) + v * Math.sin((angle_deg * Math.PI) / 180) - distance));
      const near = [away, Math.abs(away - edge.radius), ...fars];
      const grip = near.indexOf(Math.min(...near));
      const scale = (half * (parts.refs.canvas.getBoundingClientRect().width || 960)) / width;
      this.aim = { what: "dead", grip: near[grip] * scale < NEARER_PX ? grip : null };
    },
    /** @param {number[]} place in the source */
    dragDead([x, y]) {
      const edge = { ...this.dead() };
      const [u, v] = [(x - (width - 1) / 2) / half, (y - (height - 1) / 2) / half];
      const within = (/** @type {number} */ value, /** @type {number} */ low, /** @type {number} */ high) => round(Math.max(low, Math.min(high, value)));
      const { grip } = this.aim;
      if (grip === 0) [edge.centre_x, edge.centre_y] = [within(u, -0.3, 0.3), within(v, -0.3, 0.3)];
      else if (grip === 1) edge.radius = within(Math.hypot(u - edge.centre_x, v - edge.centre_y), 0.2, 1.5);
      else {
        edge.sides = edge.sides.map((/** @type {Side} */ side, /** @type {number} */ i) => {
          const turn = (side.angle_deg * Math.PI) / 180;
          return i === grip - 2 ? { ...side, distance: within(u * Math.cos(turn) + v * Math.sin(turn), 0.2, 1.5) } : side;
        });
      }
      this.setEdge(edge);
      this.changed();
      this.drawOver();
    },
    releaseDead() {
      if (this.aim.grip === null) return;
      this.aim = { what: "dead", grip: null };
      this.settled();
    },
    /** What of the edge the clip told. @param {any} found @returns {string} */
    foundDeadText(found) {
      if (!found) return "";
      const names = found.sides.map((/** @type {Side} */ side) => Object.keys(STRAIGHT).find((name) => along(side, STRAIGHT[/** @type {keyof typeof STRAIGHT} */ (name)])) || "a corner");
      const circle = found.radius === null ? [] : [`beyond a circle that reaches ${(100 * found.radius).toFixed(1)} % of the way to the corners`];
      const straight = names.length ? [`beyond a straight edge at the ${names.join(", the ")}`] : [];
      return `No light ${[...circle, ...straight].join(" and ")}, known within ${(100 * found.doubt).toFixed(1)} %.`;
    },
  };
};
