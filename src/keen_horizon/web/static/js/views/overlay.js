// @ts-check
// Lines over the picture: a grid, pinned points, drawn lines, and the output's window on the source. Never in a render.
import { corners, mapped } from "../geometry/matrix.js";

const COLUMNS = 12;

/** @param {SVGSVGElement} svg @param {{ width: number, height: number }} size */
export function mountOverlay(svg, size) {
  svg.setAttribute("viewBox", `-0.5 -0.5 ${size.width} ${size.height}`);
  const lines = path(svg, "");
  const window = path(svg, "window");
  const pins = path(svg, "pins");
  const drawn = path(svg, "drawn");
  const edges = path(svg, "edges");
  const dots = path(svg, "dots");
  const arm = size.width / 50;
  const cell = size.width / COLUMNS;
  let grid = "";
  for (let x = (size.width / 2) % cell; x < size.width; x += cell) grid += `M${x} 0V${size.height}`;
  for (let y = (size.height / 2) % cell; y < size.height; y += cell) grid += `M0 ${y}H${size.width}`;
  return {
    /** @param {{ grid: boolean, window: number[] | null, pins: number[][], lines: number[][], edges: number[][][] }} look */
    update(look) {
      lines.setAttribute("d", look.grid ? grid : "");
      const quad = look.window && corners(size.width, size.height).map(([x, y]) => mapped(/** @type {number[]} */ (look.window), x, y));
      window.setAttribute("d", quad ? `M${quad.map(([x, y]) => `${x.toFixed(2)} ${y.toFixed(2)}`).join("L")}Z` : "");
      pins.setAttribute("d", look.pins.map(([x, y]) => `M${x - arm} ${y}h${2 * arm}M${x} ${y - arm}v${2 * arm}`).join(""));
      drawn.setAttribute("d", look.lines.map(([x1, y1, x2, y2]) => `M${x1} ${y1}L${x2} ${y2}`).join(""));
      edges.setAttribute("d", look.edges.map((edge) => `M${edge.map(([x, y]) => `${x.toFixed(2)} ${y.toFixed(2)}`).join("L")}`).join(""));
      const dot = size.width / 320;
      dots.setAttribute("d", look.edges.flat().map(([x, y]) => `M${(x - dot).toFixed(2)} ${y.toFixed(2)}a${dot} ${dot} 0 1 0 ${2 * dot} 0a${dot} ${dot} 0 1 0 ${-2 * dot} 0`).join(""));
    },
    destroy() {
      svg.replaceChildren();
    },
  };
}

/** @param {SVGSVGElement} svg @param {string} name */
function path(svg, name) {
  const element = document.createElementNS("http://www.w3.org/2000/svg", "path");
  if (name) element.setAttribute("class", name);
  svg.append(element);
  return element;
}
