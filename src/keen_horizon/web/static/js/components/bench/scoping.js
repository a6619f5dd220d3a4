// @ts-check
// The scopes beside the viewer: which one is open, drawn from what is on show.
import { cornerShare, counted, mountScope } from "../../views/scope.js";

const EVERY = 3; // pictures that pass, one is counted while they play

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

    /** @param {"" | import("../../views/scope.js").Kind} kind */
    setScope(kind) {
      this.scope = kind;
      requestAnimationFrame(() => this.fit());
    },
    toggleScope() {
      this.setScope(this.scope ? "" : "across");
    },
    drawScope() {
      if (!this.scope || this.stills || (this.playing && passed++ % EVERY)) return;
      const pixels = parts.viewer.pixels();
      const found = counted(pixels, this.scope);
      scope ||= mountScope(parts.refs.scope);
      scope.draw(found, this.scope);
      const share = (/** @type {number} */ part) => `${(100 * part).toFixed(1)} %`;
      const corners = this.scope === "radius" ? `Corners at ${share(cornerShare(found))} of the middle. ` : "";
      this.scopeSaid = `${corners}At white ${share(found.white)}, at black ${share(found.black)}.`;
    },
  };
};
