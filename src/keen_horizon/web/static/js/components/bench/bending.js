// @ts-check
// Bending: where near and far move apart, how far the picture may be bent, and what that gives.
import { bend, meshAt } from "../../geometry/mesh.js";
import { ask } from "../../net.js";

const LOOKED_AFTER_MS = 1200; // once nothing changes any more
const LARGER = 8; // times as far as it is bent is the mesh drawn, since a pixel hardly shows

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const bending = (parts) => {
  let said = "";
  let asked = 0;
  /** @type {number} */ let soon = 0;
  return {
    heat: false,
    /** @type {any} what bending would be */ bendOffer: null,
    /** @type {number[]} frames that were looked at */ bendLookedAt: [],

    /** Whether the picture is steadied as a whole, so that it may be bent. */
    steadiesWhole() {
      const { intent, level_glide } = this.t.motion;
      return intent === "hold" || intent === "glide" || (intent === "level" && level_glide);
    },
    /** Look whether bending is worth while, when what tells that has changed. */
    lookForBending() {
      const { intent, level_glide, ignore, layer, response_s } = this.t.motion;
      const say = JSON.stringify([intent, level_glide, ignore, layer, response_s, this.range(), this.measured()]);
      if (say === said) return;
      said = say;
      clearTimeout(soon);
      this.bendOffer = null;
      if (!this.measured() || !this.steadiesWhole() || parts.page.info.across) return;
      const number = ++asked;
      soon = setTimeout(async () => {
        try {
          const told = await ask("POST", `${parts.address}/bend`, this.t);
          if (number === asked) [this.bendOffer, this.bendLookedAt] = [told.offer, told.frames || []];
        } catch {
          said = ""; // what is wrong with the settings, solving says
        }
      }, LOOKED_AFTER_MS);
    },
    bendOffered() {
      return Boolean(this.bendOffer && this.bendOffer.worth && !this.t.motion.bend_limit_px);
    },
    bendOfferText() {
      if (!this.bendOffer) return "";
      const { apart_px, left_px, limit_px, worth } = this.bendOffer;
      if (!worth) return "Near and far do not move apart here: there is nothing to bend.";
      const where = this.bendLookedAt.length && this.bendLookedAt[1] - this.bendLookedAt[0] < this.range().last - this.range().first ? ` (frames ${this.bendLookedAt.join("-")})` : "";
      return `Near and far move apart by ${apart_px.toFixed(2)} px a frame${where}. Bent by up to ${limit_px} px, ${left_px.toFixed(2)} px would be left.`;
    },
    /** @returns {any[]} stretches in which near and far move apart */
    bendStretches() {
      if (!this.bendOffer) return [];
      return this.bendOffer.stretches.map((/** @type {any} */ stretch) => ({ ...stretch, text: `${stretch.first}-${stretch.last}: ${stretch.px.toFixed(2)} px a frame` }));
    },
    takeBending() {
      this.t.motion.bend_limit_px = this.bendOffer.limit_px;
      this.heat = true;
      this.settled();
    },
    bendText() {
      const l = this.path && this.path.bend ? this.path.ledger : null;
      if (!l) return this.t.motion.bend_limit_px ? "" : this.bendOffered() ? "near and far move apart" : "off";
      return `by up to ${l.bend_px.toFixed(1)} px`;
    },
    bendGains() {
      const l = this.path && this.path.bend ? this.path.ledger : null;
      return l ? `Lengths change by at most ${(100 * l.bend_stretch).toFixed(1)} %. Near and far move apart by ${l.apart_after_px.toFixed(2)} px a frame instead of ${l.apart_before_px.toFixed(2)} px.` : "";
    },
    toggleHeat() {
      this.heat = !this.heat;
      this.drawOver();
    },
    heatText() {
      return `This frame's mesh, drawn ${LARGER} times as far as it is bent. Colour: from none to ${this.t.motion.bend_limit_px} px.`;
    },
    /** The mesh of this frame and how far each of its cells is bent, in what is on show. */
    heatShown() {
      const mesh = this.heat && this.stage === "motion" ? meshAt(this.path, this.frame) : null;
      if (!mesh) return { cells: [] };
      const { width, height } = parts.size;
      const [across, down] = [mesh.columns - 2, mesh.rows - 2];
      const corners = Array.from({ length: down + 1 }, (_, j) => Array.from({ length: across + 1 }, (_, i) => {
        const [x, y] = [(i / across) * width - 0.5, (j / down) * height - 0.5];
        const moved = bend(mesh, parts.size, x, y);
        const [shownX, shownY] = this.shownAt([x, y]);
        return { place: [shownX - LARGER * moved[0], shownY - LARGER * moved[1]], far: Math.hypot(...moved) };
      }));
      const cells = [];
      for (let j = 0; j < down; j++)
        for (let i = 0; i < across; i++) {
          const four = [corners[j][i], corners[j][i + 1], corners[j + 1][i + 1], corners[j + 1][i]];
          const far = Math.max(...four.map((corner) => corner.far));
          cells.push({ corners: four.map((corner) => corner.place), share: far / this.t.motion.bend_limit_px });
        }
      return { cells };
    },
  };
};
