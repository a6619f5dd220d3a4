// @ts-check
// Zoom against remaining shake: the curve, where the treatment stands on it, and the limit. Click or drag along it.

const NS = "http://www.w3.org/2000/svg";
const EDGE = { left: 6, right: 6, top: 14, low: 92 };
const WORDS = 100; // px that "0.025 % at 1.018×" is wide

/** @typedef {{ curve: { zoom: number, shake_percent: number }[], limit: number, zoom: number | null, shake: number | null }} Trade */

/** @param {SVGSVGElement} svg @param {(zoom: number, settled: boolean) => void} choose */
export function mountTradeChart(svg, choose) {
  const parts = Object.fromEntries(["zero", "line", "limit", "here"].map((name) => {
    const path = document.createElementNS(NS, "path");
    path.setAttribute("class", name);
    svg.append(path);
    return [name, path];
  }));
  const labels = document.createElementNS(NS, "g");
  svg.append(labels);
  /** @type {Trade | null} */
  let state = null;
  const width = () => svg.clientWidth || 220;
  const most = () => (state && state.curve.length ? state.curve[state.curve.length - 1].zoom : 1.1);
  const x = (/** @type {number} */ zoom) => EDGE.left + ((width() - EDGE.left - EDGE.right) * (Math.min(zoom, most()) - 1)) / Math.max(1e-6, most() - 1);

  /** @param {string} text @param {number} at @param {number} y @param {"start" | "middle" | "end"} anchor @param {string} kind */
  function label(text, at, y, anchor, kind = "") {
    const element = document.createElementNS(NS, "text");
    element.setAttribute("x", String(at));
    element.setAttribute("y", String(y));
    element.setAttribute("text-anchor", anchor);
    element.setAttribute("class", kind);
    element.textContent = text;
    labels.append(element);
  }

  function draw() {
    labels.replaceChildren();
    for (const part of Object.values(parts)) part.setAttribute("d", "");
    if (!state || state.curve.length < 2) {
      label("working it out", EDGE.left, 50, "start");
      return;
    }
    const peak = Math.max(1e-6, state.curve[0].shake_percent);
    const y = (/** @type {number} */ shake) => EDGE.low - ((EDGE.low - EDGE.top) * Math.min(shake, peak)) / peak;
    parts.zero.setAttribute("d", `M${EDGE.left} ${EDGE.low}H${width() - EDGE.right}`);
    parts.line.setAttribute("d", "M" + state.curve.map((point) => `${x(point.zoom).toFixed(1)} ${y(point.shake_percent).toFixed(1)}`).join("L"));
    parts.limit.setAttribute("d", `M${x(state.limit).toFixed(1)} ${EDGE.top - 6}V${EDGE.low}`);
    if (state.zoom !== null && state.shake !== null) {
      parts.here.setAttribute("d", `M${x(state.zoom)} ${y(state.shake) - 4}l4 4l-4 4l-4 -4z`);
      const left = x(state.zoom) > width() / 2;
      const beside = x(state.zoom) + (left ? -8 : 8);
      const begins = left ? beside - WORDS : beside;
      const next = state.curve.find((point) => x(point.zoom) >= begins); // the curve falls: nothing of it is higher after that
      const above = Math.min(y(state.shake), next ? y(next.shake_percent) : EDGE.low);
      label(`${state.shake.toFixed(3)} % at ${state.zoom.toFixed(3)}×`, beside, Math.max(EDGE.top + 4, above - 6), left ? "end" : "start", "of-here");
    }
    label("1×", EDGE.left, EDGE.low + 14, "start");
    label("zoom", width() / 2, EDGE.low + 14, "middle");
    label(`${most().toFixed(3)}×`, width() - EDGE.right, EDGE.low + 14, "end");
    label("shake left", EDGE.left, 10, "start");
  }

  /** @param {PointerEvent} event */
  function pressed(event) {
    if (!state || state.curve.length < 2) return;
    svg.setPointerCapture(event.pointerId);
    const zoomAt = (/** @type {PointerEvent} */ moved) => {
      const share = (moved.clientX - svg.getBoundingClientRect().left - EDGE.left) / (width() - EDGE.left - EDGE.right);
      return 1 + (most() - 1) * Math.min(1, Math.max(0, share));
    };
    const moving = (/** @type {PointerEvent} */ moved) => choose(zoomAt(moved), false);
    const released = (/** @type {PointerEvent} */ moved) => {
      svg.removeEventListener("pointermove", moving);
      svg.removeEventListener("pointerup", released);
      choose(zoomAt(moved), true);
    };
    svg.addEventListener("pointermove", moving);
    svg.addEventListener("pointerup", released);
    choose(zoomAt(event), false);
  }
  svg.addEventListener("pointerdown", pressed);
  const watcher = new ResizeObserver(draw);
  watcher.observe(svg);

  return {
    /** @param {Trade} next */
    update(next) {
      state = next;
      draw();
    },
    destroy() {
      watcher.disconnect();
      svg.removeEventListener("pointerdown", pressed);
      svg.replaceChildren();
    },
  };
}
