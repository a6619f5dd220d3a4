// @ts-check
// The bench's figures in words.

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const figures = (parts) => {
  return {
    rows() {
      const { motion, edges, output } = this.t;
      const l = this.path && this.path.ledger;
      const keyed = this.keys("response_s").length ? "keyed" : `${motion.response_s} s`;
      const intent = { glide: `Glide ${keyed}`, hold: "Hold", pin: "Pin", level: motion.level_glide ? `Level, glide ${keyed}` : "Level" }[/** @type {string} */ (motion.intent)] || "as shot";
      const steadier = l ? `${l.shake_before_percent.toFixed(2)} → ${l.shake_after_percent.toFixed(2)} %` : "";
      const moved = l && this.path.measured;
      const rows = moved && this.path.lens && this.path.lens.rows ? ", rows" : "";
      const bent = moved && this.path.bend ? `, bent ${l.bend_px.toFixed(l.bend_px < 9.95 ? 1 : 0)} px` : "";
      return [
        { stage: "optics", name: "Optics", key: "1", state: this.lensText(), price: this.lensPrice() },
        { stage: "motion", name: "Motion", key: "2", state: moved ? intent + rows + bent : "not measured", price: moved ? steadier : "" },
        { stage: "edges", name: "Edges", key: "3", state: edges.way, price: moved ? `${l.zoom.toFixed(3)}×` : "" },
        { stage: "output", name: "Output", key: "4", state: this.formatText(output), price: "" },
      ];
    },
    lanes() {
      if (!this.path) return [];
      const l = this.path.ledger;
      const percent = (/** @type {number} */ px) => ((100 * px) / parts.size.width).toFixed(3);
      const each = ["shift", "turn", "size", "tilt"].map((name) => ({ name, before: percent(l.lanes_before[name]), after: percent(l.lanes_after[name]) }));
      return [{ name: "all", before: percent(l.shake_before_px), after: percent(l.shake_after_px) }, ...each];
    },
    verdict() {
      if (!this.path) return "";
      const l = this.path.ledger;
      if (l.limited) return `This path asks for ${l.wanted_zoom > l.zoom ? asks(l.wanted_zoom) : "more"}. The limit holds it to ${l.zoom.toFixed(3)}×; the steadiness gives way at the pinch points.`;
      const mean = this.t.edges.zoom === "breathing" && this.t.edges.way === "fill" ? ` at most, ${l.mean_zoom.toFixed(3)}× in the mean` : "";
      return `This path needs ${l.zoom.toFixed(3)}×${mean}, inside the limit.`;
    },
    /** The share of the source that is left after lens and edges. */
    keptArea() {
      return this.path ? this.path.ledger.kept_area : 1;
    },
    keptText() {
      return `${(100 * this.keptArea()).toFixed(1)} %`;
    },
    zoomText() {
      return this.path ? `${this.path.ledger.zoom.toFixed(3)}×` : "1.000×";
    },
    equalsText() {
      return this.path ? `${this.path.ledger.equals_width}×${this.path.ledger.equals_height}` : `${parts.size.width}×${parts.size.height}`;
    },
    outputText() {
      return this.path ? `${this.path.output[0]}×${this.path.output[1]}` : "";
    },
    resized() {
      return this.path !== null && this.path.ledger.sharpness < 1;
    },
    sharpText() {
      return this.path ? `${(100 * this.path.ledger.sharpness).toFixed(1)} %` : "100 %";
    },
    notes() {
      return this.path ? this.path.notes : [];
    },
    lentText() {
      return this.path && this.path.ledger.borrowed_area > 0 ? `${(100 * this.path.ledger.borrowed_area).toFixed(2)} %` : "";
    },
    /** Figures of the version that is compared with, beside those of now. @returns {{ name: string, then: string, now: string }[]} */
    versusRows() {
      if (!this.path || !this.otherLedger) return [];
      const [now, then] = [this.path.ledger, this.otherLedger];
      const row = (/** @type {string} */ name, /** @type {(l: any) => string} */ text) => ({ name, then: text(then), now: text(now) });
      return [
        row("zoom", (l) => `${l.zoom.toFixed(3)}×`), row("mean zoom", (l) => `${l.mean_zoom.toFixed(3)}×`),
        row("keeps", (l) => `${(100 * l.kept_area).toFixed(1)} %`), row("sharpness left", (l) => `${(100 * l.sharpness).toFixed(1)} %`),
        row("shake left", (l) => `${l.shake_after_percent.toFixed(3)} %`), row("largest gap", (l) => `${(100 * l.gap_area).toFixed(1)} %`),
        ...(now.bend_px || then.bend_px ? [row("bent by up to", (l) => `${l.bend_px.toFixed(1)} px`)] : []),
      ];
    },
    suggestedSharpen() {
      return this.path ? this.path.sharpen : 0;
    },
    asks,
    /** Where a nudged window leaves the picture. */
    gapText() {
      if (!this.path || !this.path.ledger.gap_frames) return "";
      const gaps = this.path.gap_area.map((/** @type {number} */ share, /** @type {number} */ i) => (share > 0 ? this.path.first + i : -1)).filter((/** @type {number} */ f) => f >= 0);
      return `${gaps.length} frames have a gap, from frame ${gaps[0]} to ${gaps[gaps.length - 1]}`;
    },
    gapsWanted() {
      return this.t.edges.way === "leave" || (this.t.edges.way === "borrow" && this.t.edges.borrow.rest === "leave");
    },
    gapShare() {
      return this.path ? this.path.ledger.gap_area : 0;
    },
    keptBox() {
      const share = Math.sqrt(this.keptArea());
      return { x: (144 - 143 * share) / 2, y: (81 - 80 * share) / 2, width: 143 * share, height: 80 * share };
    },
  };
};

/** @param {number} zoom */
function asks(zoom) {
  return zoom > 3 ? "more than 3×" : `${zoom.toFixed(3)}×`;
}
