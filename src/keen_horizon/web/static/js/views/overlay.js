// @ts-check
// Lines over the picture: a grid, pinned points, drawn lines, and the output's window on the source. Never in a render.

/** @typedef {{ cells: number, turn: number, colour: string, strength: number }} Grid cells across the picture, turned by degrees clockwise */

/** @typedef {{ cells: { corners: number[][], share: number }[] }} Heat cells of a mesh, and how far each is bent of the furthest */
/** @typedef {{ believed: number[][], others: number[][][], unknown: number[][], ignored: number[][], trails: number[][][] }} Evidence points by what is believed of them */

const HEATS = 12; // classes by how far a place is bent

/** @param {SVGSVGElement} svg @param {{ width: number, height: number }} size */
export function mountOverlay(svg, size) {
  const { circle, square, triangle, diamond, crossed } = marks(size.width / 260);
  svg.setAttribute("viewBox", `-0.5 -0.5 ${size.width} ${size.height}`);
  const heat = Array.from({ length: HEATS }, (_, i) => coloured(path(svg, "heat"), i / (HEATS - 1)));
  const lines = path(svg, "grid");
  const window = path(svg, "window");
  const pins = path(svg, "pins");
  const drawn = path(svg, "drawn");
  const edges = path(svg, "edges");
  const asked = path(svg, "asked");
  const dots = path(svg, "dots");
  const trails = path(svg, "trails");
  const areas = path(svg, "areas");
  const believed = path(svg, "believed");
  const others = [path(svg, "other"), path(svg, "other"), path(svg, "other")];
  const unknown = path(svg, "unknown");
  const ignored = path(svg, "ignored");
  const arm = size.width / 50;
  return {
    /** @param {{ grid: Grid | null, window: number[][], pins: number[][], lines: number[][], edges: number[][][], asked: number[][], ring: number[][][], handles: number[][], areas: number[][][], heat: Heat, evidence: Evidence }} look */
    update(look) {
      heat.forEach((element, i) => element.setAttribute("d", look.heat.cells.filter(({ share }) => Math.min(HEATS - 1, Math.floor(HEATS * share)) === i).map(({ corners }) => `${along(corners)}Z`).join("")));
      lines.setAttribute("d", look.grid ? ruled(look.grid, size) : "");
      if (look.grid) {
        lines.style.stroke = look.grid.colour;
        lines.style.strokeOpacity = String(look.grid.strength);
      }
      window.setAttribute("d", look.window.length ? `${along(look.window)}Z` : "");
      pins.setAttribute("d", look.pins.map(([x, y]) => `M${x - arm} ${y}h${2 * arm}M${x} ${y - arm}v${2 * arm}`).join(""));
      drawn.setAttribute("d", look.lines.map(([x1, y1, x2, y2]) => `M${x1} ${y1}L${x2} ${y2}`).join(""));
      edges.setAttribute("d", [...look.edges, ...look.ring].map(along).join(""));
      asked.setAttribute("d", along(look.asked));
      const { evidence } = look;
      trails.setAttribute("d", evidence.trails.map(along).join(""));
      areas.setAttribute("d", look.areas.map(along).join(""));
      believed.setAttribute("d", evidence.believed.map(circle).join(""));
      [square, triangle, diamond].forEach((shape, i) => others[i].setAttribute("d", evidence.others[i].map(shape).join("")));
      unknown.setAttribute("d", evidence.unknown.map(crossed).join(""));
      ignored.setAttribute("d", evidence.ignored.map(crossed).join(""));
      const dot = size.width / 320;
      dots.setAttribute("d", [...look.edges.flat(), ...look.handles].map(([x, y]) => `M${(x - dot).toFixed(2)} ${y.toFixed(2)}a${dot} ${dot} 0 1 0 ${2 * dot} 0a${dot} ${dot} 0 1 0 ${-2 * dot} 0`).join(""));
    },
    destroy() {
      svg.replaceChildren();
    },
  };
}

/** Shapes of followed points, as path data. @param {number} mark half their width */
export function marks(mark) {
  const at = (/** @type {number} */ x, /** @type {number} */ y) => `M${x.toFixed(1)} ${y.toFixed(1)}`;
  return {
    circle: (/** @type {number[]} */ [x, y]) => `${at(x - mark, y)}a${mark} ${mark} 0 1 0 ${2 * mark} 0a${mark} ${mark} 0 1 0 ${-2 * mark} 0`,
    square: (/** @type {number[]} */ [x, y]) => `${at(x - mark, y - mark)}h${2 * mark}v${2 * mark}h${-2 * mark}z`,
    triangle: (/** @type {number[]} */ [x, y]) => `${at(x, y - mark)}l${1.1 * mark} ${2 * mark}h${-2.2 * mark}z`,
    diamond: (/** @type {number[]} */ [x, y]) => `${at(x, y - 1.3 * mark)}l${1.3 * mark} ${1.3 * mark}l${-1.3 * mark} ${1.3 * mark}l${-1.3 * mark} ${-1.3 * mark}z`,
    crossed: (/** @type {number[]} */ [x, y]) => `${at(x - mark, y - mark)}l${2 * mark} ${2 * mark}${at(x - mark, y + mark)}l${2 * mark} ${-2 * mark}`,
  };
}

/** @param {number[][]} points */
const along = (points) => (points.length ? `M${points.map(([x, y]) => `${x.toFixed(2)} ${y.toFixed(2)}`).join("L")}` : "");

/** Lines both ways through the middle of the picture, a cell apart. @param {Grid} grid @param {{ width: number, height: number }} size */
function ruled({ cells, turn }, { width, height }) {
  const [middleX, middleY] = [(width - 1) / 2, (height - 1) / 2];
  const cell = width / cells;
  const reach = Math.hypot(width, height) / 2;
  const [along, aside] = [Math.cos((turn * Math.PI) / 180), Math.sin((turn * Math.PI) / 180)];
  const at = (/** @type {number} */ u, /** @type {number} */ v) => `${(middleX + u * along - v * aside).toFixed(1)} ${(middleY + u * aside + v * along).toFixed(1)}`;
  let d = "";
  for (let i = -Math.floor(reach / cell); i * cell <= reach; i++) d += `M${at(i * cell, -reach)}L${at(i * cell, reach)}M${at(-reach, i * cell)}L${at(reach, i * cell)}`;
  return d;
}

/** From clear over the colour of what is corrected to that of trouble. @param {SVGElement} element @param {number} share */
function coloured(element, share) {
  element.style.fill = `color-mix(in srgb, var(--trouble) ${Math.round(100 * share)}%, var(--after))`;
  element.style.fillOpacity = (0.65 * share).toFixed(2);
  return element;
}

/** @param {SVGSVGElement} svg @param {string} name */
function path(svg, name) {
  const element = document.createElementNS("http://www.w3.org/2000/svg", "path");
  if (name) element.setAttribute("class", name);
  svg.append(element);
  return element;
}
