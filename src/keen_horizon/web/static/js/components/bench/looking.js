// @ts-check
// How the bench's pictures are looked at: views, wipe, overlays, stills.
import { IDENTITY, inside } from "../../geometry/matrix.js";

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const looking = (parts) => {
  return {
    shown() {
      return this.held ? "source" : this.view;
    },
    viewText() {
      return { source: "source", result: "result", wipe: "source | result", side: "source, result" }[this.shown()];
    },
    /** @param {string} view */
    setView(view) {
      this.view = view;
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
    matrix() {
      const at = this.path ? this.frame - this.path.first : -1;
      return (this.path && this.path.src_from_out[at]) || IDENTITY;
    },
    draw() {
      if (this.stills) this.drawStill();
      else parts.viewer.update({ srcFromOut: this.matrix(), mode: this.shown(), wipe: this.wipe, fine: !this.playing });
      const onSource = this.shown() === "source" && this.path && !this.held;
      parts.overlay.update({ grid: this.grid, window: onSource ? this.matrix() : null });
    },
    drawStill() {
      const treated = this.shown() !== "source" && this.path ? `&treatment=${encodeURIComponent(JSON.stringify(this.t))}` : "";
      /** @type {any} */ (this).$refs.still.src = `/media/clips/${parts.page.id}/still.jpg?frame=${this.frame}${treated}`;
    },
    drawStrip() {
      const { first, last } = this.range();
      parts.strip.update({
        frames: this.frames, first, last, frame: this.frame, path: this.path,
        limit: this.t.framing.edges !== "leave" && this.t.motion.intent !== null ? this.t.framing.zoom_limit : null,
        pinches: this.pinches().map((/** @type {any} */ pinch) => pinch.frame),
        keys: this.keyFrames(), ease: this.t.motion.ease,
      });
    },
    fit() {
      const refs = /** @type {any} */ (this).$refs;
      const box = inside(refs.viewer.clientWidth, refs.viewer.clientHeight, parts.size.width / parts.size.height);
      for (const element of [refs.canvas, refs.still, refs.overlay]) {
        element.style.left = `${box.x}px`;
        element.style.top = `${box.y}px`;
        element.style.width = `${box.width}px`;
        element.style.height = `${box.height}px`;
      }
      if (parts.viewer) parts.viewer.resize(box.width);
      this.placeWipe();
      this.draw();
    },
    placeWipe() {
      const refs = /** @type {any} */ (this).$refs;
      const { left, top, width, height } = refs.canvas.style;
      refs.wipe.style.left = `${parseFloat(left) + parseFloat(width) * this.wipe}px`;
      refs.wipe.style.top = top;
      refs.wipe.style.height = height;
    },
    /** @param {PointerEvent} event */
    dragWipe(event) {
      const refs = /** @type {any} */ (this).$refs;
      const line = refs.wipe;
      line.setPointerCapture(event.pointerId);
      line.onpointermove = (/** @type {PointerEvent} */ moved) => {
        const box = refs.canvas.getBoundingClientRect();
        this.setWipe((moved.clientX - box.left) / box.width);
      };
      line.onpointerup = () => (line.onpointermove = null);
    },
    /** @param {number} step */
    nudgeWipe(step) {
      this.setWipe(this.wipe + step);
    },
    /** @param {number} share */
    setWipe(share) {
      this.wipe = Math.min(1, Math.max(0, share));
      this.placeWipe();
      this.draw();
    },
    Math100: (/** @type {number} */ share) => Math.round(100 * share),
  };
};
