// @ts-check
// The bench of a clip that shows all around: the treatment, what was solved for it, the playhead. Views draw it.
import { ask, followWork, pageData } from "../net.js";
import { copy } from "../state/copy.js";
import { newest } from "../state/newest.js";
import { mountAround } from "../views/around.js";
import { mountPlayer } from "../views/player.js";
import { mountStrip } from "../views/strip.js";
import { areas } from "./bench/areas.js";
import { arming } from "./bench/arming.js";
import { believing } from "./bench/believing.js";
import { outputting } from "./bench/outputting.js";
import { partsOf } from "./bench/parts.js";
import { pinned } from "./bench/pinned.js";
import { shutter } from "./bench/shutter.js";
import { starting } from "./bench/starting.js";
import { time } from "./bench/time.js";
import { treating } from "./bench/treating.js";
import { wiping } from "./bench/wiping.js";
import { works } from "./bench/works.js";
import { KEY_LIST, keyAction } from "./keys.js";
import { against, spoken } from "./sphere/against.js";
import { around } from "./sphere/around.js";
import { evidence } from "./sphere/evidence.js";
import { outlooks } from "./sphere/outlooks.js";
import { pointing } from "./sphere/pointing.js";

const STAGES = ["motion", "view", "output"];
const ELEMENTS = ["viewer", "video", "canvas", "still", "overlay", "wipe", "strip", "keys", "copies"];
const ELSEWHERE = new Set(["B (hold)", "W", "N, shift N", "E", "G", "M", "S", "Z", "enter", "1 2 3 4"]); // keys of what spheres do not have

export const sphere = () => {
  const page = pageData();
  const url = new URL(location.href);
  const parts = partsOf(page);
  const inTurn = newest();
  const asker = Math.random().toString(36).slice(2);
  let questions = 0;

  return {
    t: copy(page.draft),
    stage: STAGES.includes(url.searchParams.get("stage") || "") ? url.searchParams.get("stage") : "motion",
    frames: page.info.frames,
    frame: 0,
    playing: false,
    stills: false,
    help: false,
    error: "",
    notice: page.info.notice || "",
    /** @type {any} */ path: null,
    measuredRanges: page.measured,
    works: page.works,
    renders: page.renders.reverse(),
    proxyUrl: page.proxy.url,
    keyList: [
      ...KEY_LIST.filter(({ keys }) => !ELSEWHERE.has(keys)),
      { keys: "B", does: "see as shot, and back" },
      { keys: "1 2 3", does: "Motion, View, Output" },
      { keys: "alt ← → ↑ ↓", does: "look a degree that way" },
    ],
    intents: [
      { value: "glide", label: "Glide", text: "turn smoothly" },
      { value: "hold", label: "Hold", text: "stand still, heading kept" },
      { value: "pin", label: "Pin", text: "keep a subject where it is, or follow it" },
      { value: "level", label: "Level", text: "upright, the heading gliding" },
      { value: null, label: "As shot", text: "leave the motion alone" },
    ],
    ...time(parts),
    ...treating(parts),
    ...outputting(parts),
    ...works(parts),
    ...arming(),
    ...against(parts),
    ...starting(parts),
    ...wiping(parts),
    ...pinned(parts),
    ...shutter(parts),
    ...outlooks(parts),
    ...areas(parts),
    ...believing(parts),
    ...around(parts),
    ...evidence(parts),
    ...pointing(parts),

    init() {
      const bench = /** @type {any} */ (this);
      const refs = parts.refs = Object.fromEntries(ELEMENTS.map((name) => [name, bench.$refs[name]]));
      parts.viewer = mountAround(refs.canvas, refs.video, page.info.across);
      this.stills = parts.viewer === null;
      parts.strip = mountStrip(refs.strip, {
        seek: (frame) => bench.go(frame),
        range: (first, last, settled) => bench.setRange(first, last, settled),
        ease: () => {},
      });
      parts.player = mountPlayer(refs.video, page.proxy.rate, this.frames, (frame) => bench.arrived(frame));
      bench.showing = bench.delivered() === "sphere" ? "sphere" : "view";
      new ResizeObserver(() => bench.fit()).observe(refs.viewer);
      bench.fit();
      bench.boundsChanged();
      parts.player.seek(Number(url.searchParams.get("frame") || bench.range().first));
      addEventListener("keydown", (event) => this.key(event));
      addEventListener("bench:use", (event) => bench.use(/** @type {CustomEvent} */ (event).detail));
      addEventListener("bench:saved", (event) => (bench.versions = [...bench.versions, /** @type {CustomEvent} */ (event).detail]));
      addEventListener("bench:save", (event) => bench.saveVersion(/** @type {CustomEvent} */ (event).detail));
      bench.$watch("help", (/** @type {boolean} */ open) => (open ? refs.keys.showModal() : refs.keys.close()));
      bench.$watch("stage", () => bench.stageChanged());
      followWork((work) => bench.worked(work));
      addEventListener("connection:back", () => {
        this.error = "";
        bench.solve();
      });
      bench.solve();
      bench.tellFates();
    },
    /** Solve for the treatment; what is dragged stays on show until it is answered. */
    solve() {
      return inTurn((turn) => this.solved(turn));
    },
    /** @param {import("../state/newest.js").Turn} turn */
    async solved({ signal, overtaken }) {
      const bench = /** @type {any} */ (this);
      try {
        const measured = bench.measured();
        if (measured && !bench.followed()) bench.follow();
        const asked = measured && bench.followed() ? this.t : { ...this.t, motion: { ...this.t.motion, intent: null } };
        this.path = await ask("POST", `${parts.address}/solve?asker=${asker}&number=${++questions}`, asked, { signal });
        this.error = "";
        if (!overtaken()) bench.dragged = null;
      } catch (problem) {
        if (/** @type {Error} */ (problem).name === "AbortError") return;
        this.error = /** @type {Error} */ (problem).message;
      }
      bench.draw();
      bench.drawStrip();
      bench.believe();
    },
    /** What the server has of the clip now. */
    async refresh() {
      const bench = /** @type {any} */ (this);
      const clip = await ask("GET", parts.address);
      this.measuredRanges = clip.measured;
      bench.pinTracks = clip.pins;
      this.renders = clip.renders.reverse();
      if (!this.path || !this.path.measured || this.t.motion.intent === "pin") this.solve();
    },
    stageChanged() {
      const bench = /** @type {any} */ (this);
      bench.remember();
      bench.tellFates();
      bench.draw();
    },
    drawStrip() {
      const bench = /** @type {any} */ (this);
      const { first, last } = bench.range();
      const path = this.path && this.path.measured ? this.path : null;
      parts.strip.update({
        frames: this.frames, first, last, frame: this.frame, limit: null, pinches: [], keys: bench.keyFrames(), ease: [],
        path: path && { first: path.first, shake_before: path.shake_before, shake_after: path.shake_after, unit: "°", pins: [] },
      });
    },
    /** @param {any} render */
    renderFigures({ report }) {
      return [
        { name: "shake", value: `${report.shake_before_deg.toFixed(2)} → ${report.shake_after_deg.toFixed(2)} °/frame²` },
        { name: "size", value: `${report.output.width}×${report.output.height}` },
        { name: "frames", value: `${report.frames}, ${(report.frames / report.seconds.render).toFixed(0)} a second` },
      ];
    },
    /** What the stages do and cost. */
    rows() {
      const bench = /** @type {any} */ (this);
      const intent = this.intents.find((/** @type {any} */ { value }) => value === this.t.motion.intent) || this.intents[3];
      const ledger = this.path && this.path.measured ? this.path.ledger : null;
      const delivery = bench.deliveries.find((/** @type {any} */ way) => way.value === bench.delivered());
      const { width, height } = bench.viewSize();
      const keys = bench.lookKeys().length;
      return [
        { stage: "motion", name: "Motion", key: "1", state: intent.label.toLowerCase(), price: ledger ? `shake ${ledger.shake_after_deg.toFixed(2)} °` : "not measured" },
        { stage: "view", name: "View", key: "2", state: delivery.label.toLowerCase() + (keys > 1 ? `, ${keys} keys` : ""), price: bench.pixelsText() },
        { stage: "output", name: "Output", key: "3", state: bench.formatText(this.t.output), price: `${width}×${height}` },
      ];
    },
    /** How many of the sphere's pixels the view has for each of its own. */
    pixelsText() {
      if (!this.path) return "";
      const least = this.path.ledger.source_px;
      return least >= 1 ? "sharp" : `△ enlarged ${(1 / least).toFixed(1)}×`;
    },
    /** How much of what is around the delivered picture shows at the playhead. */
    seenText() {
      const bench = /** @type {any} */ (this);
      return bench.delivered() === "sphere" ? "all around" : `${bench.lookHere().field_deg.toFixed(0)}° wide`;
    },
    ledgerFigures() {
      if (!this.path) return [];
      const figures = spoken(this.path);
      return this.path.measured ? figures : figures.slice(-1);
    },

    /** @param {KeyboardEvent} event */
    key(event) {
      const bench = /** @type {any} */ (this);
      const looks = /** @type {Record<string, [number, number]>} */ ({ ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] });
      if (event.altKey && looks[event.key]) {
        event.preventDefault();
        bench.nudge(...looks[event.key]);
        return;
      }
      const action = keyAction(event);
      if (!action) return;
      const [name, value] = action;
      const does = /** @type {Record<string, () => void>} */ ({
        ...bench.timeKeys(value),
        before: () => bench.show(bench.showing === "before" ? (bench.delivered() === "sphere" ? "sphere" : "view") : "before"),
        stage: () => (this.stage = STAGES[value] || this.stage),
        putDown: () => bench.putDown(),
        undo: () => bench.travel("undo"),
        redo: () => bench.travel("redo"),
        help: () => (this.help = true),
      });
      if (!does[name]) return;
      event.preventDefault();
      does[name]();
    },
  };
};
