// @ts-check
// The strip: shake before and after, and the zoom each frame asks for, over the whole clip, with the range,
// the pinch points, keys, eased stretches and the playhead. Drag anywhere to move the playhead, an edge to move in
// or out; drag an eased stretch's middle to move it, its ends to widen it, its top line to set how much is given up.

const NS = "http://www.w3.org/2000/svg";
const LEFT = 12;
const RIGHT = 128; // room for the labels at the ends of the lines
const LANES = { shake: { top: 14, low: 78 }, zoom: { top: 92, low: 146 } };

const PIN = { top: 81, low: 89 };
const SURE = { top: 2, low: 9 };
const EASE = { top: 6, low: 86 };

/** @typedef {{ frame: number, width: number, amount: number }} Ease */
/** @typedef {{ frames: number, first: number, last: number, frame: number, path: any, limit: number | null, pinches: number[], keys: number[], ease: Ease[], sure?: { first: number, values: number[], unsure: { first: number, last: number }[] } | null }} StripState */

/**
 * @param {HTMLElement} host
 * @param {{ seek: (frame: number) => void, range: (first: number, last: number, settled: boolean) => void,
 *   ease: (index: number, change: Partial<Ease> | null, settled: boolean) => void }} tell
 */
export function mountStrip(host, tell) {
  const svg = document.createElementNS(NS, "svg");
  svg.setAttribute("aria-hidden", "true");
  host.append(svg);
  const eased = add("g");
  const parts = Object.fromEntries(
    ["zero1", "zero2", "sure", "unsure", "before", "after", "wanted", "zoom", "limit", "pin", "lost", "left", "right", "edgeIn", "edgeOut", "playhead"].map((name) => [name, add("path")]),
  );
  const classes = { sure: "sure", unsure: "lost", zero1: "zero", zero2: "zero", before: "before", after: "after", wanted: "before", zoom: "after", limit: "limit", pin: "after", lost: "lost", left: "outside", right: "outside", edgeIn: "edge", edgeOut: "edge", playhead: "playhead" };
  for (const [name, value] of Object.entries(classes)) parts[name].setAttribute("class", value);
  const pinches = add("g");
  const keys = add("g");
  const labels = add("g");
  const handles = { first: add("rect"), last: add("rect") };
  for (const handle of Object.values(handles)) {
    handle.setAttribute("class", "handle");
    handle.setAttribute("width", "9");
    handle.setAttribute("height", "14");
  }
  /** @type {StripState | null} */
  let state = null;
  let width = host.clientWidth;
  let height = host.clientHeight;

  const span = () => Math.max(1, width - LEFT - RIGHT);
  const x = (/** @type {number} */ frame) => LEFT + (span() * (frame + 0.5)) / /** @type {StripState} */ (state).frames;
  const frameAt = (/** @type {number} */ px) => Math.min(/** @type {StripState} */ (state).frames - 1, Math.max(0, Math.floor(((px - LEFT) / span()) * /** @type {StripState} */ (state).frames)));

  /** @param {string} kind */
  function add(kind) {
    const element = document.createElementNS(NS, kind);
    svg.append(element);
    return element;
  }

  /** @param {number[]} values @param {number} first @param {{ top: number, low: number }} lane @param {number} floor @param {number} top */
  function line(values, first, lane, floor, top) {
    const scale = (lane.low - lane.top) / Math.max(1e-9, top - floor);
    return values.map((value, i) => `${i ? "L" : "M"}${x(first + i).toFixed(1)} ${(lane.low - (Math.min(top, value) - floor) * scale).toFixed(1)}`).join("");
  }

  function drawCurves() {
    if (!state) return;
    const { path, limit } = state;
    const { shake, zoom } = LANES;
    parts.zero1.setAttribute("d", `M${LEFT} ${shake.low}H${width - RIGHT}`);
    parts.zero2.setAttribute("d", path && !path.zoom ? "" : `M${LEFT} ${zoom.low}H${width - RIGHT}`);
    labels.replaceChildren();
    for (const name of ["before", "after", "wanted", "zoom", "limit", "pin", "lost"]) parts[name].setAttribute("d", "");
    if (!path) {
      label("measure the motion to see it here", LEFT + 16, shake.low - 8, "");
      return;
    }
    const peak = Math.max(0.05, ...path.shake_before);
    parts.before.setAttribute("d", line(path.shake_before, path.first, shake, 0, peak));
    parts.after.setAttribute("d", line(path.shake_after, path.first, shake, 0, peak));
    const end = width - RIGHT + 8;
    label(`shake, peak ${peak.toFixed(2)} ${path.unit || "%"}`, end, shake.top + 8, "");
    label("before", end, shake.top + 24, "of-before");
    label("after", end, shake.top + 38, "of-after");
    if (!path.zoom) return; // nothing is cropped of a sphere
    const highest = Math.max(1.02, limit || 0, ...path.zoom, Math.min(Math.max(...path.wanted_zoom), 2)) * 1.002;
    parts.wanted.setAttribute("d", line(path.wanted_zoom, path.first, zoom, 1, highest));
    parts.zoom.setAttribute("d", line(path.zoom, path.first, zoom, 1, highest));
    label("asks for", end, zoom.top + 10, "of-before");
    label("zoom", end, zoom.top + 24, "of-after");
    if (limit) {
      const y = zoom.low - ((limit - 1) * (zoom.low - zoom.top)) / (highest - 1);
      parts.limit.setAttribute("d", `M${LEFT} ${y.toFixed(1)}H${width - RIGHT}`);
      label(`limit ${limit.toFixed(3)}×`, end, zoom.top + 38, "of-limit");
    }
    if (path.pins.length) {
      const held = path.pins[0].confidence.map((/** @type {number} */ _, /** @type {number} */ i) => Math.min(...path.pins.map((/** @type {any} */ pin) => pin.confidence[i])));
      const step = span() / state.frames;
      parts.pin.setAttribute("d", line(held, path.first, PIN, 0, 1));
      parts.lost.setAttribute("d", held.map((/** @type {number} */ value, /** @type {number} */ i) => (value > 0 ? "" : `M${x(path.first + i) - step / 2} ${PIN.low}h${step}`)).join(""));
      label("pin held", end, PIN.low, "of-after");
    }
    pinches.replaceChildren(...state.pinches.map((frame) => {
      const mark = document.createElementNS(NS, "path");
      const at = x(frame);
      mark.setAttribute("class", "pinch");
      mark.setAttribute("d", `M${at} ${zoom.low + 3}l4 7h-8z`);
      return mark;
    }));
  }

  function drawSure() {
    if (!state) return;
    const { sure } = state;
    parts.sure.setAttribute("d", sure ? line(sure.values, sure.first, SURE, 0, 1) : "");
    const step = span() / state.frames;
    parts.unsure.setAttribute("d", sure ? sure.unsure.map(({ first, last }) => `M${(x(first) - step / 2).toFixed(1)} ${SURE.low}H${(x(last) + step / 2).toFixed(1)}`).join("") : "");
  }

  function drawKeys() {
    if (!state) return;
    keys.replaceChildren(...state.keys.map((frame) => made("path", "key", { d: `M${x(frame)} 158l4 4l-4 4l-4 -4z` })));
    eased.replaceChildren(...state.ease.flatMap((ease, index) => {
      const half = (span() * ease.width) / /** @type {StripState} */ (state).frames / 2;
      const [from, to] = [x(ease.frame) - half, x(ease.frame) + half];
      const top = EASE.low - (EASE.low - EASE.top) * ease.amount;
      const shape = `M${from} ${EASE.low}C${from + half / 4} ${EASE.low} ${from + half / 4} ${top} ${from + half / 2} ${top}H${to - half / 2}C${to - half / 4} ${top} ${to - half / 4} ${EASE.low} ${to} ${EASE.low}Z`;
      const drag = { "data-ease": String(index) };
      return [
        made("path", "eased", { d: shape, ...drag, "data-part": "frame" }),
        made("path", "eased-top", { d: `M${from + half / 2} ${top}H${to - half / 2}`, ...drag, "data-part": "amount" }),
        made("path", "eased-end", { d: `M${from} ${EASE.low}V${EASE.low - 16}`, ...drag, "data-part": "width" }),
        made("path", "eased-end", { d: `M${to} ${EASE.low}V${EASE.low - 16}`, ...drag, "data-part": "width" }),
      ];
    }));
  }

  /** @param {string} kind @param {string} name @param {Record<string, string>} rest */
  function made(kind, name, rest) {
    const element = document.createElementNS(NS, kind);
    element.setAttribute("class", name);
    for (const [key, value] of Object.entries(rest)) element.setAttribute(key, value);
    return element;
  }

  /** What dragging a part of an eased stretch to a place makes of it. @param {Ease} ease @param {string} part @param {number} frame @param {number} y */
  function easeAt(ease, part, frame, y) {
    if (part === "frame") return { frame };
    if (part === "width") return { width: Math.max(4, 2 * Math.abs(frame - ease.frame)) };
    return { amount: Math.round(100 * Math.min(1, Math.max(0.05, (EASE.low - y) / (EASE.low - EASE.top)))) / 100 };
  }

  /** @param {string} text @param {number} at @param {number} y @param {string} kind */
  function label(text, at, y, kind) {
    const element = document.createElementNS(NS, "text");
    element.setAttribute("x", String(at));
    element.setAttribute("y", String(y));
    element.setAttribute("class", kind);
    element.textContent = text;
    labels.append(element);
  }

  function drawRange() {
    if (!state) return;
    const from = x(state.first) - span() / state.frames / 2;
    const to = x(state.last) + span() / state.frames / 2;
    parts.left.setAttribute("d", `M${LEFT} 0H${from}V${height}H${LEFT}Z`);
    parts.right.setAttribute("d", `M${to} 0H${width - RIGHT}V${height}H${to}Z`);
    parts.edgeIn.setAttribute("d", `M${from} 0V${height}`);
    parts.edgeOut.setAttribute("d", `M${to} 0V${height}`);
    handles.first.setAttribute("x", String(from));
    handles.last.setAttribute("x", String(to - 9));
    drawPlayhead();
  }

  function drawPlayhead() {
    if (state) parts.playhead.setAttribute("d", `M${x(state.frame).toFixed(1)} 0V${height}`);
  }

  /** @param {PointerEvent} event */
  function pressed(event) {
    if (!state) return;
    const edge = event.target === handles.first ? "first" : event.target === handles.last ? "last" : null;
    const { ease: index, part } = /** @type {SVGElement} */ (event.target).dataset;
    host.setPointerCapture(event.pointerId);
    const move = (/** @type {PointerEvent} */ moved, settled = false) => {
      if (!state) return;
      const box = host.getBoundingClientRect();
      const frame = frameAt(moved.clientX - box.left);
      if (index !== undefined) tell.ease(Number(index), easeAt(state.ease[Number(index)], part || "", frame, moved.clientY - box.top), settled);
      else if (edge === "first") tell.range(Math.min(frame, state.last), state.last, settled);
      else if (edge === "last") tell.range(state.first, Math.max(frame, state.first), settled);
      else tell.seek(frame);
    };
    const moving = (/** @type {PointerEvent} */ moved) => move(moved);
    const released = (/** @type {PointerEvent} */ moved) => {
      host.removeEventListener("pointermove", moving);
      host.removeEventListener("pointerup", released);
      if (edge || index !== undefined) move(moved, true);
    };
    host.addEventListener("pointermove", moving);
    host.addEventListener("pointerup", released);
    move(event);
  }
  host.addEventListener("pointerdown", pressed);

  const watcher = new ResizeObserver(() => {
    width = host.clientWidth;
    height = host.clientHeight;
    drawCurves();
    drawSure();
    drawKeys();
    drawRange();
  });
  watcher.observe(host);

  return {
    /** @param {StripState} next */
    update(next) {
      const same = state && state.path === next.path && state.limit === next.limit;
      const sure = state && state.sure && next.sure ? state.sure.values === next.sure.values : state && state.sure === next.sure;
      const moved = !state || state.first !== next.first || state.last !== next.last;
      state = next;
      if (!same) drawCurves();
      if (!sure) drawSure();
      drawKeys();
      if (moved || !same) drawRange();
      else drawPlayhead();
    },
    destroy() {
      watcher.disconnect();
      host.removeEventListener("pointerdown", pressed);
      svg.remove();
    },
  };
}
