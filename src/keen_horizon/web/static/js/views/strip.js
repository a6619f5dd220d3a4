// @ts-check
// The strip: shake before and after, and the zoom each frame asks for, over the whole clip, with the range,
// the pinch points and the playhead. Drag anywhere to move the playhead, drag an edge to move in or out.

const NS = "http://www.w3.org/2000/svg";
const LEFT = 12;
const RIGHT = 128; // room for the labels at the ends of the lines
const LANES = { shake: { top: 14, low: 78 }, zoom: { top: 92, low: 146 } };

/** @typedef {{ frames: number, first: number, last: number, frame: number, path: any, limit: number | null, pinches: number[] }} StripState */

/**
 * @param {HTMLElement} host
 * @param {{ seek: (frame: number) => void, range: (first: number, last: number, settled: boolean) => void }} tell
 */
export function mountStrip(host, tell) {
  const svg = document.createElementNS(NS, "svg");
  svg.setAttribute("aria-hidden", "true");
  host.append(svg);
  const parts = Object.fromEntries(
    ["zero1", "zero2", "before", "after", "wanted", "zoom", "limit", "left", "right", "edgeIn", "edgeOut", "playhead"].map((name) => [name, add("path")]),
  );
  const classes = { zero1: "zero", zero2: "zero", before: "before", after: "after", wanted: "before", zoom: "after", limit: "limit", left: "outside", right: "outside", edgeIn: "edge", edgeOut: "edge", playhead: "playhead" };
  for (const [name, value] of Object.entries(classes)) parts[name].setAttribute("class", value);
  const pinches = add("g");
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
    parts.zero2.setAttribute("d", `M${LEFT} ${zoom.low}H${width - RIGHT}`);
    labels.replaceChildren();
    for (const name of ["before", "after", "wanted", "zoom", "limit"]) parts[name].setAttribute("d", "");
    if (!path) {
      label("measure the motion to see it here", LEFT + 16, shake.low - 8, "");
      return;
    }
    const peak = Math.max(0.05, ...path.shake_before);
    parts.before.setAttribute("d", line(path.shake_before, path.first, shake, 0, peak));
    parts.after.setAttribute("d", line(path.shake_after, path.first, shake, 0, peak));
    const highest = Math.max(1.02, limit || 0, ...path.zoom, Math.min(Math.max(...path.wanted_zoom), 2)) * 1.002;
    parts.wanted.setAttribute("d", line(path.wanted_zoom, path.first, zoom, 1, highest));
    parts.zoom.setAttribute("d", line(path.zoom, path.first, zoom, 1, highest));
    const end = width - RIGHT + 8;
    label(`shake, peak ${peak.toFixed(2)} %`, end, shake.top + 8, "");
    label("before", end, shake.top + 24, "of-before");
    label("after", end, shake.top + 38, "of-after");
    label("asks for", end, zoom.top + 10, "of-before");
    label("zoom", end, zoom.top + 24, "of-after");
    if (limit) {
      const y = zoom.low - ((limit - 1) * (zoom.low - zoom.top)) / (highest - 1);
      parts.limit.setAttribute("d", `M${LEFT} ${y.toFixed(1)}H${width - RIGHT}`);
      label(`limit ${limit.toFixed(3)}×`, end, zoom.top + 38, "of-limit");
    }
    pinches.replaceChildren(...state.pinches.map((frame) => {
      const mark = document.createElementNS(NS, "path");
      const at = x(frame);
      mark.setAttribute("class", "pinch");
      mark.setAttribute("d", `M${at} ${zoom.low + 3}l4 7h-8z`);
      return mark;
    }));
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
    host.setPointerCapture(event.pointerId);
    const move = (/** @type {PointerEvent} */ moved, settled = false) => {
      if (!state) return;
      const frame = frameAt(moved.clientX - host.getBoundingClientRect().left);
      if (edge === "first") tell.range(Math.min(frame, state.last), state.last, settled);
      else if (edge === "last") tell.range(state.first, Math.max(frame, state.first), settled);
      else tell.seek(frame);
    };
    const moving = (/** @type {PointerEvent} */ moved) => move(moved);
    const released = (/** @type {PointerEvent} */ moved) => {
      host.removeEventListener("pointermove", moving);
      host.removeEventListener("pointerup", released);
      if (edge) move(moved, true);
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
    drawRange();
  });
  watcher.observe(host);

  return {
    /** @param {StripState} next */
    update(next) {
      const same = state && state.path === next.path && state.limit === next.limit && state.pinches === next.pinches;
      const moved = !state || state.first !== next.first || state.last !== next.last;
      state = next;
      if (!same) drawCurves();
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
