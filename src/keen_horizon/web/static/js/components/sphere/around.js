// @ts-check
// Looking around on the canvas: what is drawn, and what dragging it does.
import { focalOf, outline, turnOf } from "../../geometry/around.js";
import { IDENTITY, inside, product } from "../../geometry/matrix.js";

const AT_ONCE = [0, 0, 0]; // rows that are read at once
const INSET = 0.28; // of the viewer's width
const WHEEL = 0.0015;
const SVG = "http://www.w3.org/2000/svg";

/** @param {import("../bench/parts.js").Parts} parts @returns {any} */
export const around = (parts) => {
  /** @type {{ x: number, y: number } | null} */ let held = null;
  return {
    /** @type {"view" | "sphere" | "before"} */ showing: "sphere",
    showings: [
      { value: "view", label: "view" },
      { value: "sphere", label: "sphere" },
      { value: "before", label: "as shot" },
    ],

    wiped: false,
    /** What the wipe's template asks. */
    shown() {
      return this.wiped && this.showing !== "before" ? "wipe" : this.showing;
    },
    toggleWipe() {
      this.wiped = !this.wiped;
      this.draw();
    },
    /** @param {"view" | "sphere" | "before"} showing */
    show(showing) {
      this.showing = showing;
      this.fit();
    },
    viewText() {
      if (this.showing === "before") return this.beforeName();
      const steady = this.path && this.path.measured && this.t.motion.intent ? "steadied" : "not steadied";
      return this.showing === "view" ? `view, ${steady}` : `sphere, ${steady}`;
    },
    /** source_from_steadied of the playhead's frame. @returns {number[]} */
    steadyHere() {
      const turn = this.path && this.path.steadied[this.frame - this.path.first];
      return turn || IDENTITY;
    },
    /** How far the camera turned while this frame's rows were read, rad. @returns {number[]} */
    readTurnHere() {
      const turn = this.path && this.path.read_turns[this.frame - this.path.first];
      return turn || AT_ONCE;
    },
    /** @returns {import("../../geometry/around.js").Camera} */
    viewCamera() {
      const { width, height } = this.viewSize();
      const projection = this.delivered();
      const { field, roundness: back } = this.outlookHere();
      return { projection, width, height, back, focal: focalOf(projection, back, width, field) };
    },
    /** The looks of the view and of the sphere that it looks out of. */
    looks() {
      const steady = this.steadyHere();
      const readTurn = this.readTurnHere();
      const whole = { camera: { projection: null, width: 2, height: 1, focal: 1, back: 0 }, turn: steady, readTurn };
      const own = turnOf(this.outlookHere());
      if (this.delivered() === "sphere") return { view: null, sphere: { ...whole, turn: product(steady, this.lookKeys().length || this.dragged ? own : IDENTITY) } };
      return { view: { camera: this.viewCamera(), turn: product(steady, own), readTurn }, sphere: whole };
    },
    /** What the viewer shows large, and small in its corner. @returns {import("../../views/around.js").Look[]} */
    looksShown() {
      const { view, sphere } = this.looks();
      if (this.showing === "before") return [this.before(sphere)];
      if (!view) return [sphere];
      return this.showing === "view" ? [view, sphere] : [sphere, view];
    },
    draw() {
      if (!parts.viewer) return;
      const [large, small] = this.looksShown();
      const before = this.shown() === "wipe" ? this.beforeBeside(large) : null;
      parts.viewer.draw(large, small || null, INSET, before, this.wipe, !this.playing && !held);
      parts.refs.overlay.replaceChildren();
      parts.refs.overlay.style.clipPath = before ? this.afterWipe() : "";
      this.drawOutline(this.looks().view);
      this.drawMarks();
    },
    /** The view's frame on the sphere, small or large. @param {any} view */
    drawOutline(view) {
      if (!view || this.showing === "before") return;
      const box = this.sphereBox();
      for (const line of outline(view.camera, turnOf(this.outlookHere()))) {
        this.drawLine("view-outline", line.map(([x, y]) => [box.x + x * box.width, box.y + y * box.height]));
      }
    },
    /** What lies right of the wipe's line, where marks are true. */
    afterWipe() {
      const { clientWidth: width, clientHeight: height } = parts.refs.canvas;
      const lean = (height / 2) * Math.tan(this.wipe.turn);
      const at = width * this.wipe.place;
      return `polygon(${at + lean}px 0, ${width}px 0, ${width}px ${height}px, ${at - lean}px ${height}px)`;
    },
    /** A line over the picture. @param {string} kind @param {number[][]} points CSS px of the canvas */
    drawLine(kind, points) {
      const line = document.createElementNS(SVG, "polyline");
      line.setAttribute("class", kind);
      line.setAttribute("points", points.map(([x, y]) => `${x.toFixed(1)},${y.toFixed(1)}`).join(" "));
      parts.refs.overlay.append(line);
    },
    /** Where the sphere lies in the canvas, CSS px. */
    sphereBox() {
      const { clientWidth: width, clientHeight: height } = parts.refs.canvas;
      if (this.showing !== "view") return { x: 0, y: 0, width, height };
      const small = width * INSET;
      return { x: width - small, y: height - small / 2, width: small, height: small / 2 };
    },
    /** Whether a place in the canvas, CSS px, is covered by what is shown small. @param {number[]} place */
    covered([x, y]) {
      const small = this.looksShown()[1];
      if (!small) return false;
      const { clientWidth: width, clientHeight: height } = parts.refs.canvas;
      return x > (1 - INSET) * width && y > height - (INSET * width * small.camera.height) / small.camera.width;
    },
    aspect() {
      if (this.showing !== "view" || this.delivered() === "sphere") return 2;
      const { width, height } = this.viewSize();
      return width / height;
    },
    fit() {
      const { refs } = parts;
      const box = inside(refs.viewer.clientWidth, refs.viewer.clientHeight, this.aspect());
      for (const element of [refs.canvas, refs.still, refs.overlay]) {
        element.style.left = `${box.x}px`;
        element.style.top = `${box.y}px`;
        element.style.width = `${box.width}px`;
        element.style.height = `${box.height}px`;
      }
      if (parts.viewer) parts.viewer.resize(box.width, this.aspect());
      this.placeWipe();
      this.draw();
      if (this.stills) this.drawStill();
    },
    drawStill() {
      const query = this.showing === "before" ? "" : "&of=draft";
      parts.refs.still.src = `/media/clips/${parts.page.id}/still.jpg?frame=${this.frame}${query}`;
    },

    /** @param {PointerEvent} event */
    pressed(event) {
      if (this.aim && !event.button) return this.aimed(event);
      if (this.showing === "before" || event.button) return;
      held = { x: event.offsetX, y: event.offsetY };
      /** @type {Element} */ (event.currentTarget).setPointerCapture(event.pointerId);
      if (this.playing) this.togglePlay();
    },
    /** The picture goes along with the pointer; on the sphere, the view does. @param {PointerEvent} event */
    moved(event) {
      if (this.aim) return this.draggedTool(event);
      if (!held) return;
      const { clientWidth: width } = parts.refs.canvas;
      const [dx, dy] = [event.offsetX - held.x, event.offsetY - held.y];
      held = { x: event.offsetX, y: event.offsetY };
      const own = this.showing === "view" && this.delivered() !== "sphere";
      const camera = own ? this.viewCamera() : null;
      const degrees = camera ? (180 / Math.PI / camera.focal) * (camera.width / width) : 360 / width;
      const along = own || this.delivered() === "sphere" ? -1 : 1;
      const here = this.lookHere();
      const upright = Math.max(0.2, Math.cos((here.pitch_deg * Math.PI) / 180));
      this.look({ ...here, yaw_deg: here.yaw_deg + (along * dx * degrees) / (own ? upright : 1), pitch_deg: here.pitch_deg - along * dy * degrees }, false);
    },
    released() {
      if (this.began || this.areaDrawn.length) return this.letGo();
      if (!held) return;
      held = null;
      this.settleLook();
    },
    /** @param {WheelEvent} event */
    wheeled(event) {
      if (this.delivered() === "sphere" || this.showing === "before") return;
      const here = this.lookHere();
      this.look({ ...here, field_deg: here.field_deg * Math.exp(event.deltaY * WHEEL) }, false);
      clearTimeout(this.wheelRest);
      this.wheelRest = setTimeout(() => this.settleLook(), 250);
    },
    /** A degree with a key. @param {number} right @param {number} up */
    nudge(right, up) {
      const here = this.lookHere();
      this.look({ ...here, yaw_deg: here.yaw_deg + right, pitch_deg: here.pitch_deg + up }, true);
    },
    wheelRest: 0,
  };
};
