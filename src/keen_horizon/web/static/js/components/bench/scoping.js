// @ts-check
// The scopes beside the viewer: which one is open, drawn from what is on show.
import { cornerShare, counted, mountScope } from "../../views/scope.js";
import { gripping } from "./tool.js";

export const EVERY = 3; // pictures that pass, one is counted while they play
const LINE = 0.015; // of the picture: what is dragged no further one way is a line along the other
const NOTHING = 0.02; // of the picture: what is dragged no further either way takes the part away

export const scopeTool = gripping({
  text: () => "Drag over what is to be counted, or along a line.",
  press: (bench, _place, event) => bench.gripScope(event),
  drag: (bench, _place, event) => bench.dragScope(event),
  release: (bench) => bench.releaseScope(),
});

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const scoping = (parts) => {
  /** @type {ReturnType<typeof mountScope> | null} */ let scope = null;
  let passed = 0;
  return {
    scopes: [
      { value: "across", label: "luma across" }, { value: "down", label: "luma down" },
      { value: "parade", label: "red, green, blue" }, { value: "radius", label: "from the middle out" },
    ],
    /** Which one is open; "" none. @type {"" | import("../../views/scope.js").Kind} */ scope: "",
    scopeSaid: "",
    /** What is counted of the picture on show; all of it without. @type {import("../../views/scope.js").Part | null} */ scopePart: null,

    /** @param {"" | import("../../views/scope.js").Kind} kind */
    setScope(kind) {
      this.scope = kind;
      requestAnimationFrame(() => this.fit());
    },
    toggleScope() {
      this.setScope(this.scope ? "" : "across");
    },
    /** The next drag over the picture chooses what is counted; or all of it is counted again. */
    choosePart() {
      this.aim = this.scopePart || this.aiming("scope") ? null : { what: "scope", grip: null };
      this.scopePart = null;
      this.draw();
    },
    /** Where an event lies on show, shares of the picture. @param {PointerEvent} event @returns {[number, number]} */
    shareOf(event) {
      const box = parts.refs.canvas.getBoundingClientRect();
      const within = (/** @type {number} */ value) => Math.max(0, Math.min(1, value));
      return [within((event.clientX - box.left) / box.width), within((event.clientY - box.top) / box.height)];
    },
    /** @param {PointerEvent} event */
    gripScope(event) {
      this.aim = { what: "scope", grip: this.shareOf(event) };
    },
    /** @param {PointerEvent} event */
    dragScope(event) {
      const [x, y] = this.shareOf(event);
      const [fromX, fromY] = this.aim.grip;
      const [wide, tall] = [Math.abs(x - fromX), Math.abs(y - fromY)];
      const [left, right] = wide < LINE && tall >= LINE ? [fromX, fromX] : [Math.min(x, fromX), Math.max(x, fromX)];
      const [top, foot] = tall < LINE && wide >= LINE ? [fromY, fromY] : [Math.min(y, fromY), Math.max(y, fromY)];
      this.scopePart = Math.max(wide, tall) < NOTHING ? null : [left, top, right, foot];
      this.drawOver();
      this.drawScope();
    },
    releaseScope() {
      this.aim = null;
      this.draw();
    },
    /** The part that is counted, around it. @returns {number[][][]} */
    scopeShown() {
      if (!this.scope || !this.scopePart) return [];
      const [left, top, right, foot] = this.scopePart;
      const { width, height } = parts.size;
      return [[[left, top], [right, top], [right, foot], [left, foot], [left, top]].map(([x, y]) => [x * width - 0.5, y * height - 0.5])];
    },
    drawScope() {
      if (!this.scope || this.stills || (this.playing && passed++ % EVERY)) return;
      const pixels = parts.viewer.pixels();
      const found = counted(pixels, this.scope, this.scopePart || undefined);
      scope ||= mountScope(parts.refs.scope);
      scope.draw(found, this.scope);
      const share = (/** @type {number} */ part) => `${(100 * part).toFixed(1)} %`;
      const corners = this.scope === "radius" && !this.scopePart ? `Corners at ${share(cornerShare(found))} of the middle. ` : "";
      const part = this.scopePart ? "Of the part: at" : "At";
      this.scopeSaid = `${corners}${part} white ${share(found.white)}, at black ${share(found.black)}.`;
    },
  };
};
