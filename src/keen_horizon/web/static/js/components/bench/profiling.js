// @ts-check
// Lens profiles on the bench: one is taken for this clip, or this clip's lens is kept as one.
import { ask } from "../../net.js";
import { copy } from "../../state/copy.js";
import { bends, plain } from "./glass.js";

/** @typedef {import("../../types.js").Profile} Profile */

const ASPECT_TOLERANCE = 0.01;

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const profiling = (parts) => ({
  /** @type {Profile[]} */ profiles: [],
  profileName: "",
  profileSaid: "",

  listProfiles() {
    return this.attempt(async () => (this.profiles = await ask("GET", "/api/lens-profiles")));
  },
  /** @param {Profile} profile */
  profileFits(profile) {
    const { width, height } = profile.document;
    return Math.abs(parts.size.width / parts.size.height / (width / height) - 1) < ASPECT_TOLERANCE;
  },
  /** @param {Profile} profile */
  profileText(profile) {
    return this.profileFits(profile) ? profile.document.name : `${profile.document.name} (another aspect)`;
  },
  /** @param {HTMLSelectElement} select */
  useProfile(select) {
    const profile = this.profiles.find((/** @type {any} */ other) => String(other.id) === select.value);
    select.value = "";
    if (!profile) return;
    const { readout_s } = profile.document;
    if (readout_s !== null && readout_s !== undefined) this.t.motion.rolling_shutter = Math.round(1e4 * Math.max(-1.2, Math.min(1.2, readout_s * parts.page.info.rate))) / 1e4;
    if (profile.document.falloff) this.t.optics.falloff = copy(profile.document.falloff);
    if (profile.document.fringe) this.t.optics.fringe = copy(profile.document.fringe);
    this.profileSaid = `The glass of “${profile.document.name}”.`;
    const { lens, focal } = profile.document;
    if (!bends(lens) && focal === null) return this.settled();
    const { canvas, enlarge } = this.lens() || lens;
    this.t.optics.focal = focal;
    this.setLens({ ...lens, canvas, enlarge });
  },
  saveProfile() {
    return this.attempt(async () => {
      this.profiles = await ask("POST", "/api/lens-profiles", { name: this.profileName, clip: parts.page.id, lens: this.lens() || plain(), focal: this.t.optics.focal, readout: this.knownReadout(), falloff: this.falloffHere(), fringe: this.fringeHere() });
      this.profileSaid = `Kept as “${this.profileName}”.`;
      this.profileName = "";
    });
  },
});
