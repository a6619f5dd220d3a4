// @ts-check
// The bench's figures in words.

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const figures = (parts) => {
  return {
    rows() {
      const { motion, framing, deliver } = this.t;
      const l = this.path && this.path.ledger;
      const keyed = motion.response_keys.length ? "keyed" : `${motion.response_s} s`;
      const intent = { glide: `Glide ${keyed}`, hold: "Hold" }[/** @type {string} */ (motion.intent)] || "as shot";
      const steadier = l ? `${l.shake_before_percent.toFixed(2)} → ${l.shake_after_percent.toFixed(2)} %` : "";
      return [
        { stage: "motion", name: "Motion", key: "1", state: l ? intent : "not measured", price: steadier },
        { stage: "framing", name: "Framing", key: "2", state: framing.edges, price: l ? `${l.zoom.toFixed(3)}×` : "" },
        { stage: "deliver", name: "Deliver", key: "3", state: `H.264, crf ${deliver.quality}`, price: "" },
      ];
    },
    lanes() {
      if (!this.path) return [];
      const l = this.path.ledger;
      const percent = (/** @type {number} */ px) => ((100 * px) / parts.size.width).toFixed(3);
      const each = ["shift", "turn", "size"].map((name) => ({ name, before: percent(l.lanes_before[name]), after: percent(l.lanes_after[name]) }));
      return [{ name: "all", before: percent(l.shake_before_px), after: percent(l.shake_after_px) }, ...each];
    },
    verdict() {
      if (!this.path) return "";
      const l = this.path.ledger;
      if (l.limited) return `This path asks for ${asks(l.wanted_zoom)}. The limit holds it to ${l.zoom.toFixed(3)}×; the steadiness gives way at the pinch points.`;
      const mean = this.t.framing.zoom === "breathing" && this.t.framing.edges === "fill" ? ` at most, ${l.mean_zoom.toFixed(3)}× in the mean` : "";
      return `This path needs ${l.zoom.toFixed(3)}×${mean}, inside the limit.`;
    },
    keptText() {
      return this.path ? `${(100 * this.path.ledger.kept_area).toFixed(1)} %` : "100 %";
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
      return this.path !== null && this.path.ledger.softness < 1;
    },
    softText() {
      return this.path ? `${(100 * this.path.ledger.softness).toFixed(1)} %` : "100 %";
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
    gapShare() {
      return this.path ? this.path.ledger.gap_area : 0;
    },
    keptBox() {
      const share = this.path ? Math.sqrt(this.path.ledger.kept_area) : 1;
      return { x: (144 - 143 * share) / 2, y: (81 - 80 * share) / 2, width: 143 * share, height: 80 * share };
    },
  };
};

/** @param {number} zoom */
function asks(zoom) {
  return zoom > 3 ? "more than 3×" : `${zoom.toFixed(3)}×`;
}
