// @ts-check
// How the bench's pictures are looked at: what is compared with what, in which view, how closely.
import { fringeAt, lightAt } from "../../geometry/glass.js";
import { bent, lensAt, unpacked } from "../../geometry/lens.js";
import { IDENTITY, corners, inside, mapped } from "../../geometry/matrix.js";
import { meshAt, meshed } from "../../geometry/mesh.js";
import { ask } from "../../net.js";
import { filling } from "../../state/filling.js";

/** @typedef {import("../../types.js").Pinch} Pinch */
/** @typedef {import("../../types.js").Version} Version */

const EXACT_AFTER_MS = 250;
const SIDE_STEPS = 16; // points along a side of the window, where a lens bends it
const NAMES = { before: "before", after: "after", wipe: "before | after", side: "before, after", difference: "difference, three times", onion: "first and last frame" };

const NO_HEAT = { cells: [] };
const NOTHING_SHOWN = { believed: [], others: [[], [], []], unknown: [], ignored: [], trails: [] };

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const looking = (parts) => {
  /** @type {any} the path of the version compared with */
  let other = null;
  /** @type {number} */ let exactSoon = 0;
  /** What the viewer was served for lent picture; "" when nothing. */
  let served = "";
  /** @type {ReturnType<typeof filling> | null} */ let stills = null;
  /** @type {ReturnType<typeof filling> | null} */ let closeUps = null;
  return {
    views: [
      { value: "before", label: "before" }, { value: "after", label: "after" }, { value: "wipe", label: "wipe" },
      { value: "side", label: "side by side" }, { value: "difference", label: "difference" }, { value: "onion", label: "first + last" },
    ],
    view: "after",
    /** What "before" is: "" the clip as shot, else a version's letter. */
    against: "",
    /** @type {Version[]} */ versions: parts.page.versions,
    held: false,
    grid: false,
    /** How the grid looks; never part of a picture. */
    gridLook: { cells: 12, turn: 0, colour: "#e6e8ea", strength: 0.4 },
    markLent: false,
    /** Whether only edges are shown, in the colours that they have. */ edgesOnly: false,
    loupe: false,
    /** @type {[number, number]} where the pointer was last, in shares of the picture */ pointer: [0.5, 0.5],
    closeUp: false,
    peeling: false,
    /** @type {any} */ otherLedger: null,

    shown() {
      return this.held ? "before" : this.view;
    },
    viewText() {
      if (this.peeling) return "fetching the first and last frame";
      const name = NAMES[/** @type {keyof typeof NAMES} */ (this.shown())];
      return this.against ? name.replace("before", `version ${this.against}`).replace("after", "now") : name;
    },
    /** @param {string} view */
    setView(view) {
      this.view = view;
      if (view === "onion") this.peelOnion();
      this.draw();
    },
    /** @param {string} letter */
    async setAgainst(letter) {
      this.against = letter;
      other = this.otherLedger = null;
      const version = this.versions.find((/** @type {Version} */ v) => v.letter === letter);
      if (version) {
        await this.attempt(async () => {
          const range = this.t.range;
          other = unpacked(await ask("POST", `${parts.address}/solve`, { ...version.treatment, range }));
          this.otherLedger = other.ledger;
        });
      }
      this.draw();
    },
    /** @param {boolean} held */
    hold(held) {
      if (this.held === held) return;
      this.held = held;
      this.draw();
    },
    toggleGrid() {
      this.grid = !this.grid;
      this.draw();
    },
    /** @param {"cells" | "turn" | "strength" | "colour"} name @param {string} text */
    setGrid(name, text) {
      const value = name === "colour" ? text : Number(text);
      if (text === "" || Number.isNaN(value) || (name === "cells" && Number(value) < 2)) return;
      this.gridLook = { ...this.gridLook, [name]: value };
      this.grid = true;
      this.draw();
    },
    /** Turn the grid along a line between two places of what is on show. @param {number[]} from @param {number[]} to */
    turnGridAlong([x1, y1], [x2, y2]) {
      const degrees = (Math.atan2(y2 - y1, x2 - x1) * 180) / Math.PI;
      this.setGrid("turn", String(Math.round(100 * (degrees - 90 * Math.round(degrees / 90))) / 100));
    },
    toggleLoupe() {
      this.loupe = !this.loupe;
      this.draw();
    },
    toggleCloseUp() {
      this.closeUp = !this.closeUp;
      this.drawExact();
    },
    toggleEdges() {
      this.edgesOnly = !this.edgesOnly;
      this.draw();
    },
    toggleMark() {
      this.markLent = !this.markLent;
      this.draw();
    },
    /** @param {any} path @param {number} [frame] the one on show, unless told @returns {number[]} src_from_out */
    matrixOf(path, frame) {
      return (path && path.src_from_out[(frame ?? this.frame) - path.first]) || IDENTITY;
    },
    /** @param {any} path @returns {import("../../geometry/lens.js").Lens | null} its optics at the frame on show */
    lensOf(path) {
      return lensAt(path, this.frame);
    },
    matrix() {
      return this.matrixOf(this.path);
    },
    draw() {
      const path = this.path;
      const lending = path && path.lending && this.frame >= path.first ? { first: path.first, lensAt: (/** @type {number} */ frame) => lensAt(path, frame), meshAt: (/** @type {number} */ frame) => meshAt(path, frame), ...path.lending } : null;
      if (this.stills) this.drawStill();
      else {
        if (served && served !== this.servedKey()) {
          served = "";
          parts.viewer.serve(null);
        }
        parts.refs.canvas.dataset.lent = served ? "exact" : lending ? "recent" : "";
        parts.viewer.update({
          mode: this.shown(), before: this.matrixOf(other), after: this.matrix(), frame: this.frame, line: this.wipe,
          loupe: this.loupe ? this.pointer : null, fine: !this.playing, mark: this.markLent, lending, lenses: [this.lensOf(other), this.lensOf(this.path)],
          meshes: [meshAt(other, this.frame), meshAt(this.path, this.frame)],
          lights: [other && lightAt(other.light, this.frame), this.path && lightAt(this.path.light, this.frame)],
          fringes: [other && fringeAt(other.fringe, this.frame), this.path && fringeAt(this.path.fringe, this.frame)],
          hazes: [other && other.haze, this.path && this.path.haze],
          deads: [other ? other.dead : this.veiled() ? this.path && this.path.dead : null, this.path && this.path.dead],
          veiled: !other, edges: this.edgesOnly,
        });
      }
      this.drawOver();
      this.drawScope();
      this.drawExact();
    },
    drawOver() {
      this.layPicture();
      const shot = this.shown() === "before" && !this.against;
      const lines = ["after", "before"].includes(this.shown());
      parts.overlay.update({
        grid: this.grid ? this.gridLook : null, window: shot && this.path && !this.held ? this.windowShown() : [],
        pins: lines ? this.pinsShown() : [], lines: lines ? this.linesShown() : [], edges: lines ? this.edgesShown() : [], asked: lines ? this.askedShown() : [],
        ring: [...(lines ? [...this.ringShown(), ...this.lightShown(), ...this.deadShown(), ...this.leanShown()] : []), ...this.scopeShown()], handles: lines ? this.handlesShown() : [],
        areas: lines ? this.areasShown() : [], heat: lines ? this.heatShown() : NO_HEAT, evidence: lines ? this.evidenceShown() : NOTHING_SHOWN,
      });
    },
    /** What of a ring can be taken hold of. @returns {number[][]} */
    handlesShown() {
      const handles = this.aiming("ring") ? this.ringHandles() : this.aiming("light") ? this.lightHandles() : this.aiming("dead") ? this.deadHandles() : [];
      return handles.map((/** @type {number[]} */ place) => this.shownAt(place));
    },
    /** The output's border in the picture as shot, bent as its lens bends. @returns {number[][]} */
    windowShown() {
      const [lens, mesh] = [this.lensOf(this.path), meshAt(this.path, this.frame)];
      const quad = corners(parts.size.width, parts.size.height);
      return quad.flatMap(([x, y], i) => {
        const [toX, toY] = quad[(i + 1) % 4];
        return Array.from({ length: lens || mesh ? SIDE_STEPS : 1 }, (_, j) => {
          const share = j / SIDE_STEPS;
          const place = mapped(this.matrix(), x + share * (toX - x), y + share * (toY - y));
          return meshed(mesh, parts.size, lens ? bent(lens, parts.size, ...place) : place);
        });
      });
    },
    drawStill() {
      stills ||= filling(parts.refs.still);
      this.attemptPicture(stills.show(`${parts.address}/stills`, this.wantedStill(this.shown() !== "before")));
    },
    /** What an exact picture is to be of. @param {boolean} treated else as shot @param {any} [more] */
    wantedStill(treated, more) {
      return { frame: this.frame, treatment: treated && this.path ? this.t : null, ...more };
    },
    /** @param {Promise<boolean>} shown @param {() => void} [then] once it is on show */
    async attemptPicture(shown, then) {
      try {
        if ((await shown) && then) then();
      } catch (problem) {
        this.error = /** @type {Error} */ (problem).message;
      }
    },
    /** Once the picture stands, exact pixels from the server: what frames lend into it, and a part at full size over it. */
    drawExact() {
      const { exact } = parts.refs;
      clearTimeout(exactSoon);
      closeUps ||= filling(exact);
      closeUps.stop();
      exact.hidden = true;
      if (this.playing || this.stills) return;
      const lends = this.path && this.path.lending && served !== this.servedKey();
      if (!this.closeUp && !lends) return;
      exactSoon = setTimeout(() => {
        if (lends) this.serveLent();
        if (!this.closeUp) return;
        const wanted = this.wantedStill(this.shown() !== "before", { part: this.part(), mark: this.markLent });
        const shown = /** @type {ReturnType<typeof filling>} */ (closeUps).show(`${parts.address}/stills`, wanted);
        this.attemptPicture(shown, () => (exact.hidden = false));
      }, EXACT_AFTER_MS);
    },
    /** What the served picture is of. */
    servedKey() {
      return this.path ? JSON.stringify([this.frame, this.t, this.markLent]) : "";
    },
    serveLent() {
      const key = this.servedKey();
      const image = new Image();
      const shown = filling(image).show(`${parts.address}/stills`, this.wantedStill(true, { mark: this.markLent }));
      this.attemptPicture(shown, () => {
        if (key !== this.servedKey() || this.playing) return;
        served = key;
        parts.viewer.serve(image);
        this.draw();
      });
    },
    /** The part of the picture that fills the viewer at full size, around the pointer. */
    part() {
      const style = parts.refs.canvas.style;
      const [width, height] = [Math.round(parseFloat(style.width)), Math.round(parseFloat(style.height))];
      const [w, h] = this.path ? this.path.output : [parts.size.width, parts.size.height];
      const corner = (/** @type {number} */ share, /** @type {number} */ whole, /** @type {number} */ part) => Math.round(Math.max(0, Math.min(whole - part, share * whole - part / 2)));
      return [corner(this.pointer[0], w, width), corner(this.pointer[1], h, height), Math.max(8, width), Math.max(8, height)];
    },
    /** @param {PointerEvent} event */
    pointed(event) {
      const box = parts.refs.canvas.getBoundingClientRect();
      if (!box.width) return;
      this.pointer = [(event.clientX - box.left) / box.width, (event.clientY - box.top) / box.height];
      if (this.loupe) this.draw();
      else if (this.closeUp && event.buttons) this.drawExact();
    },
    /** Lay the range's first and last frame over each other: both are shown once, and kept. */
    async peelOnion() {
      if (this.stills || !this.path) return;
      this.peeling = true;
      const back = this.frame;
      const { first, last } = this.range();
      for (const frame of [first, last]) {
        await this.arrivalAt(frame);
        parts.viewer.peel(this.matrix(), this.lensOf(this.path), meshAt(this.path, this.frame));
      }
      await this.arrivalAt(back);
      this.peeling = false;
      this.draw();
    },
    drawStrip() {
      const { first, last } = this.range();
      parts.strip.update({
        frames: this.frames, first, last, frame: this.frame, path: this.path,
        limit: this.t.edges.way !== "leave" && this.t.motion.intent !== null ? this.t.edges.zoom_limit : null,
        pinches: this.pinches().map((/** @type {Pinch} */ pinch) => pinch.frame),
        keys: this.keyFrames(), ease: this.t.motion.ease,
        sure: this.belief && { first: this.belief.first, values: this.belief.pairs, unsure: this.belief.doubts },
      });
    },
    fit() {
      const refs = parts.refs;
      const box = inside(refs.viewer.clientWidth, refs.viewer.clientHeight, parts.size.width / parts.size.height);
      for (const element of [refs.canvas, refs.still, refs.exact, refs.overlay]) {
        element.style.left = `${box.x}px`;
        element.style.top = `${box.y}px`;
        element.style.width = `${box.width}px`;
        element.style.height = `${box.height}px`;
      }
      if (parts.viewer) parts.viewer.resize(box.width);
      this.placeWipe();
      this.draw();
    },
  };
};
