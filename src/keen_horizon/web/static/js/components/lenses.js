// @ts-check
// The lens profiles page: profiles, what stands in them, and the clips they go to.
import { ask, followWork, pageData } from "../net.js";
import { copy } from "../state/copy.js";
import { workText } from "../words.js";

/** @typedef {import("../types.js").Profile} Profile */
/** @typedef {import("../types.js").Recipient} Recipient */
/** @typedef {import("../types.js").Work} Work */

const ASPECT_TOLERANCE = 0.01;

export const lenses = () => ({
  profiles: pageData().profiles,
  clips: pageData().clips,
  forms: pageData().forms,
  fields: [
    { name: "name", label: "name", most: 80 }, { name: "camera", label: "camera", most: 80 },
    { name: "mode", label: "mode", most: 80 }, { name: "note", label: "note", most: 400 },
  ],
  /** @type {number | null} */ chosen: null,
  /** @type {any} the open profile's document, as it is being edited */ edited: {},
  /** @type {number[]} */ targets: [],
  error: "",
  said: "",

  board: { kind: "chessboard", across: 9, down: 6 },
  boardClip: 0,
  boardName: "",
  /** @type {any} the search for a board that was started here last */ search: null,

  init() {
    followWork((work) => this.searchWent(work));
  },
  boardAddress() {
    return `/media/board.svg?${new URLSearchParams({ ...this.board, across: String(this.board.across), down: String(this.board.down) })}`;
  },
  calibrate() {
    return this.attempt(async () => {
      const { work } = await ask("POST", "/api/lens-profiles/boards", { board: this.board, clip: this.boardClip, name: this.boardName });
      this.search = work;
    });
  },
  /** @param {Work} work */
  async searchWent(work) {
    if (!this.search || work.id !== this.search.id) return;
    this.search = work;
    if (work.state !== "done") return;
    this.profiles = await ask("GET", "/api/lens-profiles");
    const made = this.profiles.find((/** @type {Profile} */ profile) => profile.document.name === this.boardName.trim());
    if (made) this.choose(made);
    this.said = `“${this.boardName.trim()}” was found.`;
    this.boardName = "";
  },
  searching() {
    return this.search !== null && (this.search.state === "waiting" || this.search.state === "working");
  },
  searchText() {
    return this.search ? workText(this.search) : "";
  },
  searchError() {
    return this.search && this.search.state === "failed" ? this.search.error : "";
  },
  /** @param {Profile} profile */
  errorText(profile) {
    return profile.document.error_px === null ? "" : `${profile.document.error_px.toFixed(2)} px off`;
  },

  current() {
    return this.profiles.find((/** @type {Profile} */ profile) => profile.id === this.chosen) || null;
  },
  /** @param {Profile} profile */
  choose(profile) {
    this.chosen = profile.id;
    this.edited = copy(profile.document);
    this.targets = [];
    this.said = "";
  },
  /** @param {Profile} profile */
  about(profile) {
    const { camera, mode, note, readout_s, falloff, fringe } = profile.document;
    const read = readout_s ? `rows read in ${(1000 * Math.abs(readout_s)).toFixed(1)} ms` : "";
    return [camera, mode, note, read, falloff ? "fall-off" : "", fringe ? "fringes" : ""].filter(Boolean).join(" · ");
  },
  madeFor: (/** @type {Profile} */ profile) => `${profile.document.width}×${profile.document.height}`,
  angle: (/** @type {Profile} */ profile) => (profile.field_of_view ? `${profile.field_of_view.toFixed(0)}°` : "not told"),
  /** @param {string} name @param {string} text */
  edit(name, text) {
    this.edited = { ...this.edited, [name]: text };
  },
  /** @returns {{ name: string, key: string, index: number, value: number }[]} */
  figures() {
    const lens = this.edited.lens;
    if (!lens) return [];
    const numbered = lens.coefficients.map((/** @type {number} */ value, /** @type {number} */ index) => ({ name: `coefficient ${index + 1}`, key: "coefficients", index, value }));
    const single = ["centre_x", "centre_y", "squeeze"].map((key) => ({ name: key.replace("_", " "), key, index: -1, value: lens[key] }));
    return [...numbered, ...single];
  },
  /** @param {{ key: string, index: number }} figure @param {string} text */
  editFigure(figure, text) {
    const value = Number(text);
    if (text === "" || Number.isNaN(value)) return;
    const lens = copy(this.edited.lens);
    if (figure.index < 0) lens[figure.key] = value;
    else lens[figure.key][figure.index] = value;
    this.edited = { ...this.edited, lens };
  },
  /** @param {any} form */
  fileAddress(form) {
    return `/media/lens-profiles/${this.chosen}/${form.value}`;
  },
  /** @returns {string[]} what the forms have no place for; those that leave out the same in one line */
  leftOut() {
    const lines = new Map();
    for (const { value, label } of this.forms) {
      const missing = this.current().left_out[value].join(", ");
      if (missing) lines.set(missing, [...(lines.get(missing) || []), label]);
    }
    return [...lines].map(([missing, labels]) => `Without ${missing}: ${labels.join("; ")}.`);
  },
  /** @param {Recipient} clip */
  fits(clip) {
    const { width, height } = this.current().document;
    return Math.abs(clip.width / clip.height / (width / height) - 1) < ASPECT_TOLERANCE;
  },
  /** @param {Recipient} clip */
  clipText(clip) {
    const size = `${clip.project}, ${clip.width}×${clip.height}`;
    return this.fits(clip) ? `${size}, ${clip.lens || "no lens"}` : `${size}: another aspect`;
  },
  /** @param {number} id */
  toggle(id) {
    this.targets = this.targets.includes(id) ? this.targets.filter((other) => other !== id) : [...this.targets, id];
  },
  give() {
    return this.attempt(async () => {
      const { clips } = await ask("POST", `/api/lens-profiles/${this.chosen}/apply`, { clips: this.targets });
      this.clips = this.clips.map((/** @type {Recipient} */ clip) => clips.find((/** @type {Recipient} */ other) => other.id === clip.id) || clip);
      this.said = `Given to ${clips.length} clip${clips.length === 1 ? "" : "s"}.`;
      this.targets = [];
    });
  },
  keep() {
    return this.attempt(async () => {
      this.profiles = await ask("PUT", `/api/lens-profiles/${this.chosen}`, this.edited);
      this.said = "Kept.";
    });
  },
  /** @param {Profile} profile */
  forget(profile) {
    return this.attempt(async () => {
      this.profiles = await ask("DELETE", `/api/lens-profiles/${profile.id}`);
      if (this.chosen === profile.id) this.chosen = null;
    });
  },
  /** @param {Event} event */
  bringIn(event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const file = input.files && input.files[0];
    if (!file) return;
    return this.attempt(async () => {
      const before = new Set(this.profiles.map((/** @type {Profile} */ profile) => profile.id));
      input.value = "";
      this.profiles = await ask("POST", `/api/lens-profiles/files/${encodeURIComponent(file.name)}`, file);
      const added = this.profiles.find((/** @type {Profile} */ profile) => !before.has(profile.id));
      if (added) this.choose(added);
      this.said = `${file.name} came in.`;
    });
  },
  /** @param {() => Promise<void>} action */
  async attempt(action) {
    this.error = "";
    this.said = "";
    try {
      await action();
    } catch (problem) {
      this.error = /** @type {Error} */ (problem).message;
    }
  },
});
