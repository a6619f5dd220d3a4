// @ts-check
// The state of the bench: the treatment, what was solved for it, the playhead. Views draw it.
import { followWork, pageData } from "../net.js";
import { copy } from "../state/copy.js";
import { mountOverlay } from "../views/overlay.js";
import { mountPlayer } from "../views/player.js";
import { mountStrip } from "../views/strip.js";
import { mountTradeChart } from "../views/tradechart.js";
import { mountViewer } from "../views/viewer.js";
import { aiming } from "./bench/aiming.js";
import { areas } from "./bench/areas.js";
import { believing } from "./bench/believing.js";
import { bending } from "./bench/bending.js";
import { arming } from "./bench/arming.js";
import { outputting } from "./bench/outputting.js";
import { figures } from "./bench/figures.js";
import { flat } from "./bench/flat.js";
import { fringes } from "./bench/fringes.js";
import { glass } from "./bench/glass.js";
import { keying } from "./bench/keying.js";
import { light } from "./bench/light.js";
import { dead } from "./bench/dead.js";
import { looking } from "./bench/looking.js";
import { partsOf } from "./bench/parts.js";
import { profiling } from "./bench/profiling.js";
import { pinned } from "./bench/pinned.js";
import { pinching } from "./bench/pinching.js";
import { scoping } from "./bench/scoping.js";
import { shutter } from "./bench/shutter.js";
import { starting } from "./bench/starting.js";
import { straightedges } from "./bench/straightedges.js";
import { time } from "./bench/time.js";
import { trading } from "./bench/trading.js";
import { treating } from "./bench/treating.js";
import { turning } from "./bench/turning.js";
import { wiping } from "./bench/wiping.js";
import { works } from "./bench/works.js";
import { KEY_LIST, keyAction } from "./keys.js";

/** @typedef {import("../types.js").Trade} Trade */
/** @typedef {import("../types.js").Version} Version */

const STAGES = ["optics", "motion", "edges", "output"];
const ELEMENTS = ["viewer", "video", "canvas", "still", "exact", "check", "overlay", "wipe", "scope", "strip", "tradeChart", "keys", "copies"];

/** The version buttons in the top bar; the bench listens to what they say. */
export const versionsBar = () => ({
  versions: pageData().versions,
  current: "",
  /** @param {Version} version */
  versionText: ({ zoom, person }) => [zoom && `zoom ${zoom.toFixed(3)}×`, person && `by ${person}`].filter(Boolean).join(", "),
  /** @param {Version} version */
  pick(version) {
    this.current = version.letter;
    window.dispatchEvent(new CustomEvent("bench:use", { detail: copy(version.treatment) }));
  },
  save() {
    window.dispatchEvent(new CustomEvent("bench:save", { detail: (/** @type {Version} */ version) => {
      this.versions.push(version);
      this.current = version.letter;
      window.dispatchEvent(new CustomEvent("bench:saved", { detail: version }));
    } }));
  },
});

export const bench = () => {
  const page = pageData();
  const url = new URL(location.href);
  const parts = partsOf(page);

  return {
    t: copy(page.draft),
    stage: STAGES.includes(url.searchParams.get("stage") || "") ? url.searchParams.get("stage") : "motion",
    frames: page.info.frames,
    frame: 0,
    playing: false,
    stills: false,
    help: false,
    error: "",
    /** What is wrong with the file, when it can be worked on all the same. */ notice: page.info.notice || "",
    /** How its fields are read, where it has some. */ scan: page.info.scan || "",
    /** @type {any} */ path: null,
    /** @type {Trade[]} */ curve: [],
    wantedShake: 0.05,
    measuredRanges: page.measured,
    finerRanges: page.measured_finer,
    measuringRate: page.measuring_rate,
    works: page.works,
    renders: page.renders.reverse(),
    proxyUrl: page.proxy.url,
    keyList: KEY_LIST,
    freedoms: ["shift", "turn", "size", "tilt"],
    intents: [
      { value: "glide", label: "Glide", text: "move smoothly" },
      { value: "hold", label: "Hold", text: "stand on a tripod" },
      { value: "pin", label: "Pin", text: "keep a subject in place" },
      { value: "level", label: "Level", text: "keep only the roll straight" },
      { value: null, label: "As shot", text: "leave the motion alone" },
    ],
    ...time(parts),
    ...looking(parts),
    ...wiping(parts),
    ...treating(parts),
    ...keying(parts),
    ...pinching(parts),
    ...arming(),
    ...aiming(parts),
    ...glass(parts),
    ...light(parts),
    ...dead(parts),
    ...fringes(parts),
    ...straightedges(parts),
    ...turning(parts),
    ...flat(parts),
    ...profiling(parts),
    ...pinned(parts),
    ...areas(parts),
    ...believing(parts),
    ...bending(parts),
    ...shutter(parts),
    ...scoping(parts),
    ...starting(parts),
    ...outputting(parts),
    ...trading(parts),
    ...works(parts),
    ...figures(parts),

    init() {
      const bench = /** @type {any} */ (this);
      const refs = parts.refs = Object.fromEntries(ELEMENTS.map((name) => [name, bench.$refs[name]]));
      parts.viewer = mountViewer(refs.canvas, refs.video, parts.size);
      this.stills = parts.viewer === null;
      parts.overlay = mountOverlay(refs.overlay, parts.size);
      parts.strip = mountStrip(refs.strip, {
        seek: (frame) => bench.go(frame),
        range: (first, last, settled) => bench.setRange(first, last, settled),
        ease: (index, change, settled) => bench.changeEase(index, change, settled),
      });
      parts.tradeChart = mountTradeChart(refs.tradeChart, (zoom, settled) => bench.setLimit(zoom, settled));
      parts.player = mountPlayer(refs.video, page.proxy.rate, this.frames, (frame) => bench.arrived(frame));
      new ResizeObserver(() => bench.fit()).observe(refs.viewer);
      bench.fit();
      bench.boundsChanged();
      parts.player.seek(Number(url.searchParams.get("frame") || bench.range().first));
      addEventListener("keydown", (event) => this.key(event));
      addEventListener("keyup", (event) => event.key.toLowerCase() === "b" && bench.hold(false));
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
      bench.judgeLens();
      bench.listStartingPoints();
      bench.listProfiles();
      bench.tellFates();
    },

    /** @param {KeyboardEvent} event */
    key(event) {
      const action = keyAction(event);
      if (!action) return;
      event.preventDefault();
      const bench = /** @type {any} */ (this);
      const [name, value] = action;
      const does = {
        ...bench.timeKeys(value),
        before: () => bench.hold(true),
        stage: () => (this.stage = STAGES[value]),
        worst: () => bench.worst(),
        pinch: () => bench.pinchStep(value),
        ease: () => bench.easeHere(),
        grid: () => bench.toggleGrid(),
        loupe: () => bench.toggleLoupe(),
        scope: () => bench.toggleScope(),
        closeUp: () => bench.toggleCloseUp(),
        putDown: () => bench.putDown(),
        nextLine: () => bench.aiming("edge") && bench.nextEdge(),
        undo: () => bench.travel("undo"),
        redo: () => bench.travel("redo"),
        help: () => (this.help = true),
      };
      does[/** @type {keyof typeof does} */ (name)]();
    },
  };
};
