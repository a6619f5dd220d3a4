// @ts-check
// The line that parts before and after in the viewer: dragged, turned, stepped by keys.

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const wiping = (parts) => ({
  wipe: { place: 0.5, turn: 0 },

  placeWipe() {
    const refs = parts.refs;
    const { left, top, width, height } = refs.canvas.style;
    refs.wipe.style.left = `${parseFloat(left) + parseFloat(width) * this.wipe.place}px`;
    refs.wipe.style.top = top;
    refs.wipe.style.height = height;
    refs.wipe.style.transform = `rotate(${this.wipe.turn}rad)`;
  },
  /** Drag the line to move it; drag it near its ends to turn it. @param {PointerEvent} event */
  dragWipe(event) {
    const refs = parts.refs;
    const line = refs.wipe;
    const box = refs.canvas.getBoundingClientRect();
    const turns = Math.abs(event.clientY - (box.top + box.height / 2)) > 0.3 * box.height;
    line.setPointerCapture(event.pointerId);
    line.onpointermove = (/** @type {PointerEvent} */ moved) => {
      if (!turns) return this.setWipe((moved.clientX - box.left) / box.width, this.wipe.turn);
      const x = moved.clientX - box.left - box.width * this.wipe.place;
      const y = moved.clientY - box.top - box.height / 2;
      this.setWipe(this.wipe.place, y > 0 ? Math.atan2(-x, y) : Math.atan2(x, -y));
    };
    line.onpointerup = () => (line.onpointermove = null);
  },
  /** @param {number} step @param {number} turn */
  nudgeWipe(step, turn) {
    this.setWipe(this.wipe.place + step, this.wipe.turn + turn);
  },
  /** @param {number} place @param {number} turn */
  setWipe(place, turn) {
    this.wipe = { place: Math.min(1, Math.max(0, place)), turn: Math.min(1.5, Math.max(-1.5, turn)) };
    this.placeWipe();
    this.draw();
  },
  Math100: (/** @type {number} */ share) => Math.round(100 * share),
});
