// @ts-check
// Lines over the picture: a grid, and the output window drawn on the source. Never part of a render.
import { corners, mapped } from "../geometry/matrix.js";

const COLUMNS = 12;

/** @param {SVGSVGElement} svg @param {{ width: number, height: number }} size */
export function mountOverlay(svg, size) {
  svg.setAttribute("viewBox", `-0.5 -0.5 ${size.width} ${size.height}`);
  const lines = path(svg, "");
  const window = path(svg, "window");
  const cell = size.width / COLUMNS;
  let grid = "";
  for (let x = (size.width / 2) % cell; x < size.width; x += cell) grid += `M${x} 0V${size.height}`;
  for (let y = (size.height / 2) % cell; y < size.height; y += cell) grid += `M0 ${y}H${size.width}`;
  return {
    /** @param {{ grid: boolean, window: number[] | null }} look */
    update(look) {
      lines.setAttribute("d", look.grid ? grid : "");
      const quad = look.window && corners(size.width, size.height).map(([x, y]) => mapped(/** @type {number[]} */ (look.window), x, y));
      window.setAttribute("d", quad ? `M${quad.map(([x, y]) => `${x.toFixed(2)} ${y.toFixed(2)}`).join("L")}Z` : "");
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
