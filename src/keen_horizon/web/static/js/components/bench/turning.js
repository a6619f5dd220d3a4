// @ts-check
// How the straightened picture is looked at: horizon and verticals, four corners, the projection; and the lens as a ring.
import { ask } from "../../net.js";
import { CORNERS } from "./keying.js";
import { plain } from "./glass.js";
import { gripping, lining } from "./tool.js";

/** @typedef {import("../../types.js").Line} Line */
/** @typedef {import("../../types.js").Track} Track */

const GRIP_PX = 12; // on the screen
const TURNS = [
  { name: "roll_deg", label: "roll", low: -45, high: 45, step: 0.05, initial: 0, unit: "°" },
  { name: "pitch_deg", label: "pitch", low: -45, high: 45, step: 0.1, initial: 0, unit: "°" },
  { name: "yaw_deg", label: "yaw", low: -45, high: 45, step: 0.1, initial: 0, unit: "°" },
];
const PROJECTIONS = [
  { value: "straight", label: "flat: lines stay straight" }, { value: "cylinder", label: "cylinder: verticals stay straight" },
  { value: "stereographic", label: "stereographic: shapes are kept" },
];
const PLACES = ["top left", "top right", "bottom right", "bottom left"];

export const gridTool = lining((bench, [x1, y1, x2, y2]) => bench.turnGridAlong(bench.shownAt([x1, y1]), bench.shownAt([x2, y2])));

export const worldLineTool = lining((bench, ends) => bench.addWorldLine(ends));

/** @type {import("./tool.js").Tool} */
export const cornersTool = {
  text: (bench) => `Click the corners of something that should be a rectangle: ${4 - bench.quad.length} to go.`,
  press: (bench, place) => bench.addCorner(place),
  forget: (bench) => (bench.quad = []),
};

export const ringTool = gripping({
  text: () => "Drag the middle; on the right, the ring's size; on the left, how far it is pushed out.",
  press: (bench, place) => bench.gripRing(place),
  drag: (bench, place) => bench.dragRing(place),
  release: (bench) => bench.releaseRing(),
});

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const turning = (parts) => {
  const half = Math.hypot(parts.size.width, parts.size.height) / 2;
  const middle = [(parts.size.width - 1) / 2, (parts.size.height - 1) / 2];
  return {
    turns: TURNS,
    projections: PROJECTIONS,
    cornerFigures: CORNERS.map((name, i) => ({ name, label: `${PLACES[i >> 1]}, ${i % 2 ? "down" : "across"}` })),
    /** Corners of what should be a rectangle, as far as they are set, in the source. @type {number[][]} */ quad: [],
    /** The ring's radius in the source, half-diagonals. */ reach: 0.5,

    worldLines() {
      return this.t.optics.world_lines;
    },
    armWorldLine() {
      this.aim = this.aiming("world line") ? null : { what: "world line", from: null };
    },
    /** @param {number[]} line drawn in the source */
    addWorldLine([x1, y1, x2, y2]) {
      this.t.optics.world_lines.push({ frame: this.frame, x1, y1, x2, y2 });
      return this.findTurn();
    },
    /** @param {number} index */
    removeWorldLine(index) {
      this.t.optics.world_lines.splice(index, 1);
      if (this.worldLines().length) return this.findTurn();
      for (const name of ["roll_deg", "pitch_deg"]) if (!this.keys(name).length) this.setPlain(name, 0);
      this.settled();
    },
    /** Roll and pitch by the lines that were drawn: those of this frame where the turn is keyed. */
    findTurn() {
      const keyed = this.keys("roll_deg").length + this.keys("pitch_deg").length > 0;
      const lines = this.worldLines().filter((/** @type {Line} */ line) => !keyed || line.frame === this.frame);
      if (!lines.length) return;
      return this.attempt(async () => {
        const found = await ask("POST", `${parts.address}/turn`, { optics: this.t.optics, lines });
        this.place("roll_deg", Math.round(100 * found.roll_deg) / 100);
        this.place("pitch_deg", Math.round(100 * found.pitch_deg) / 100);
        this.settled();
      });
    },

    armCorners() {
      this.quad = [];
      this.aim = this.aiming("corners") ? null : { what: "corners", from: null };
      this.drawOver();
    },
    /** @param {number[]} place in the source */
    addCorner(place) {
      this.quad = [...this.quad, place];
      this.drawOver();
      if (this.quad.length < 4) return;
      const quad = this.quad;
      this.quad = [];
      this.aim = null;
      return this.attempt(async () => {
        const { corners } = await ask("POST", `${parts.address}/corners`, { optics: this.t.optics, frame: this.frame, quad });
        CORNERS.forEach((name, i) => this.place(name, corners[i]));
        this.settled();
      });
    },
    cornersKeyText() {
      return this.keyText(CORNERS[0]);
    },
    cornersHere() {
      return Boolean(this.keyHere(CORNERS[0]));
    },
    toggleCornerKeys() {
      this.toggleKeys(CORNERS);
    },
    cornersReset() {
      return !this.t.optics.corners.some(Boolean) && !this.keys(CORNERS[0]).length;
    },
    resetCorners() {
      for (const name of CORNERS) this.setKeys(name, []);
      this.t.optics.corners = Array(8).fill(0);
      this.settled();
    },
    /** @param {string} name in percent of the frame's side */
    cornerPercent(name) {
      return Math.round(1e4 * this.valueHere(name)) / 100;
    },
    /** @param {string} name @param {string} text @param {boolean} settled */
    setCorner(name, text, settled) {
      if (text !== "") this.setHere(name, Number(text) / 100, settled);
    },
    /** Figures with a key under the playhead. @returns {string[]} */
    keysHere() {
      const { optics } = this.t;
      const tracks = [optics, optics.falloff, optics.fringe].flatMap((part) => (part && part.keys) || []);
      return tracks.map((/** @type {Track} */ track) => track.figure).filter((/** @type {string} */ name) => this.keyHere(name));
    },
    easeHereIs() {
      const [first] = this.keysHere();
      return first ? this.keyHere(first).ease : "smooth";
    },

    /** Whether the family leaves open how wide the picture is, which turning and projections need. */
    wideUnknown() {
      const { lens, turn, projection, keys } = this.t.optics;
      const wide = lens && ["equidistant", "equisolid", "stereographic", "series"].includes(lens.family) && lens.coefficients[0] > 0;
      const turned = turn.pitch_deg || turn.yaw_deg || keys.some((/** @type {Track} */ track) => ["pitch_deg", "yaw_deg"].includes(track.figure));
      return !wide && Boolean(turned || projection !== "straight");
    },
    fieldOfView() {
      return Math.round((20 * 180 * Math.atan(1 / (this.t.optics.focal || 1.2))) / Math.PI) / 10;
    },
    /** @param {string} text degrees from corner to corner */
    setFieldOfView(text) {
      const degrees = Number(text);
      if (degrees >= 5 && degrees <= 165) this.put("t.optics.focal", Math.round(1e5 / Math.tan((degrees * Math.PI) / 360)) / 1e5);
    },

    /** The lens as a ring on the source: its middle, its radius, and how far the ring is pushed out. */
    armRing() {
      if (!this.lens()) this.setLens(plain());
      this.aim = this.aiming("ring") ? null : { what: "ring", grip: null };
      this.drawOver();
    },
    ringCentre() {
      return [middle[0] + this.valueHere("centre_x") * half, middle[1] + this.valueHere("centre_y") * half];
    },
    /** How far the ring's bend pushes it out, half-diagonals: the first figure's share of it. */
    push() {
      const k = this.valueHere("coefficient_1");
      return (this.bendSign() * k * this.reach ** 3) / (this.wide() ? 3 : 1);
    },
    wide() {
      return this.lens() && ["equidistant", "equisolid", "stereographic", "series"].includes(this.lens().family);
    },
    bendSign() {
      return this.lens() && ["division", "polynomial"].includes(this.lens().family) ? -1 : 1;
    },
    /** Handles in the source: the middle, the radius, the push. @returns {number[][]} */
    ringHandles() {
      const [x, y] = this.ringCentre();
      return [[x, y], [x + this.reach * half, y], [x - (this.reach + this.push()) * half, y]];
    },
    /** Lines of the ring: it, and where its straightened picture lies. @returns {number[][][]} */
    ringShown() {
      if (!this.aiming("ring")) return [];
      const [x, y] = this.ringCentre();
      const circle = (/** @type {number} */ radius) => Array.from({ length: 73 }, (_, i) => {
        const turn = (i * Math.PI) / 36;
        return this.shownAt([x + radius * half * Math.cos(turn), y + radius * half * Math.sin(turn)]);
      });
      return [circle(this.reach), circle(this.reach + this.push())];
    },
    /** @param {number[]} place in the source */
    gripRing(place) {
      const [px, py] = this.shownAt(place);
      const box = parts.refs.canvas.getBoundingClientRect();
      const scale = (box.width || 960) / parts.size.width;
      const near = this.ringHandles().map((/** @type {number[]} */ handle) => {
        const [x, y] = this.shownAt(handle);
        return Math.hypot(x - px, y - py) * scale;
      });
      const grip = near.indexOf(Math.min(...near));
      this.aim = { what: "ring", grip: near[grip] < 2 * GRIP_PX ? grip : null };
    },
    /** @param {number[]} place */
    dragRing([px, py]) {
      const [x, y] = this.ringCentre();
      const radius = Math.hypot(px - x, py - y) / half;
      const within = (/** @type {number} */ value, /** @type {number} */ most) => Math.max(-most, Math.min(most, Math.round(1e4 * value) / 1e4));
      if (this.aim.grip === 0) {
        this.place("centre_x", within((px - middle[0]) / half, 0.2));
        this.place("centre_y", within((py - middle[1]) / half, 0.2));
      } else if (this.aim.grip === 1) this.reach = Math.max(0.15, Math.min(1, radius));
      else {
        const k = (this.bendSign() * (radius - this.reach) * (this.wide() ? 3 : 1)) / this.reach ** 3;
        this.place("coefficient_1", this.wide() ? Math.max(0, within(k, 2.4)) : within(k, 0.8));
      }
      this.changed();
      this.drawOver();
    },
    releaseRing() {
      if (this.aim.grip === null) return;
      this.aim = { what: "ring", grip: null };
      this.keyed("coefficient_1");
    },
    /** Lines of this frame that were drawn along what is level or vertical, and corners being set. @returns {number[][]} */
    turnLinesShown() {
      if (this.stage !== "optics") return [];
      const drawn = this.worldLines().filter((/** @type {Line} */ line) => line.frame === this.frame);
      const sides = this.quad.slice(1).map((/** @type {number[]} */ place, /** @type {number} */ i) => [...this.quad[i], ...place]);
      return [...drawn.map((/** @type {Line} */ line) => [line.x1, line.y1, line.x2, line.y2]), ...sides];
    },
  };
};
