// @ts-check
// Scopes: how often each level stands where in the picture on show. Counted from the viewer's own pixels.

export const LEVELS = 256;
const COLUMNS = 256; // across a scope
const MARGIN = { left: 34, right: 34, top: 10, low: 20 };
const PERCENTS = [0, 25, 50, 75, 100];
const CODES = { black: 64, white: 940 }; // of 10 bits, where the picture's black and white are coded
const TINTS = [[236, 96, 88], [96, 210, 120], [96, 150, 245]];
const GREY = [220, 226, 232];
/** What stands at the ends of a scope. @type {Record<Kind, [string, string]>} */
const ENDS = { across: ["left", "right"], down: ["top", "foot"], parade: ["", ""], radius: ["middle", "corners"] };
const OUTER = 0.85; // of the way to the corners: what lies beyond is told as theirs

/** @typedef {"across" | "down" | "parade" | "radius"} Kind */
/** @typedef {{ data: Uint8Array, width: number, height: number }} Pixels rows from the lowest, R G B A */
/** @typedef {{ counts: Uint32Array[], columns: number, white: number, black: number }} Counted one table a channel: level + LEVELS x column */

/** Luma as BT.709 weighs it, in 256ths. @param {number} r @param {number} g @param {number} b */
const luma = (r, g, b) => (54 * r + 183 * g + 19 * b + 128) >> 8;

/** @param {Pixels} pixels @param {Kind} kind @returns {Counted} */
export function counted({ data, width, height }, kind) {
  const tables = Array.from({ length: kind === "parade" ? 3 : 1 }, () => new Uint32Array(COLUMNS * LEVELS));
  const columnOf = columns(width, height, kind);
  let white = 0, black = 0;
  for (let y = 0, at = 0; y < height; y++) {
    for (let x = 0; x < width; x++, at += 4) {
      const [r, g, b] = [data[at], data[at + 1], data[at + 2]];
      if (r === 255 || g === 255 || b === 255) white++;
      if (r === 0 && g === 0 && b === 0) black++;
      const column = LEVELS * columnOf(x, y);
      if (kind === "parade") {
        tables[0][column + r]++;
        tables[1][column + g]++;
        tables[2][column + b]++;
      } else tables[0][column + luma(r, g, b)]++;
    }
  }
  return { counts: tables, columns: COLUMNS, white: white / (width * height), black: black / (width * height) };
}

/** Which column of a scope a pixel belongs to. @param {number} width @param {number} height @param {Kind} kind @returns {(x: number, y: number) => number} */
function columns(width, height, kind) {
  const across = Uint16Array.from({ length: width }, (_, x) => Math.floor((x * COLUMNS) / width));
  const down = Uint16Array.from({ length: height }, (_, y) => Math.floor(((height - 1 - y) * COLUMNS) / height));
  if (kind === "down") return (_, y) => down[y];
  if (kind !== "radius") return (x) => across[x];
  const half = Math.hypot(width, height) / 2;
  return (x, y) => Math.min(COLUMNS - 1, Math.floor((Math.hypot(x - (width - 1) / 2, y - (height - 1) / 2) / half) * COLUMNS));
}

/** The median level of columns `from` ... `to` together. @param {Counted} counted @param {number} from @param {number} to */
export function median({ counts: [table] }, from, to) {
  const sums = new Float64Array(LEVELS);
  for (let column = from; column < to; column++) for (let level = 0; level < LEVELS; level++) sums[level] += table[column * LEVELS + level];
  const all = sums.reduce((a, b) => a + b, 0);
  let level = 0;
  for (let below = sums[0]; level < LEVELS - 1 && below < all / 2; ) below += sums[++level];
  return level;
}

/** How bright the corners are, of the middle, as coded. @param {Counted} counted */
export function cornerShare(counted) {
  return median(counted, Math.round(OUTER * COLUMNS), COLUMNS) / Math.max(1, median(counted, 0, Math.round(COLUMNS / 4)));
}

/** @param {HTMLCanvasElement} canvas */
export function mountScope(canvas) {
  const context = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  const sheet = document.createElement("canvas");

  /** @param {Counted} found @param {Kind} kind */
  function draw(found, kind) {
    const scale = devicePixelRatio;
    const [width, height] = [canvas.clientWidth, canvas.clientHeight];
    canvas.width = Math.max(2, width * scale);
    canvas.height = Math.max(2, height * scale);
    context.setTransform(scale, 0, 0, scale, 0, 0);
    const box = { x: MARGIN.left, y: MARGIN.top, width: width - MARGIN.left - MARGIN.right, height: height - MARGIN.top - MARGIN.low };
    const wide = box.width / found.counts.length;
    found.counts.forEach((table, channel) => {
      trace(table, kind === "parade" ? TINTS[channel] : GREY);
      context.drawImage(sheet, box.x + channel * wide, box.y, wide, box.height);
    });
    if (kind === "radius") course(found, box);
    graticule(box, width);
    ends(ENDS[kind], box);
  }

  /** A table as a picture: bright where many pixels stand. @param {Uint32Array} table @param {number[]} tint */
  function trace(table, tint) {
    sheet.width = COLUMNS;
    sheet.height = LEVELS;
    const inked = /** @type {CanvasRenderingContext2D} */ (sheet.getContext("2d"));
    const image = inked.createImageData(COLUMNS, LEVELS);
    for (let column = 0; column < COLUMNS; column++) {
      let most = 1;
      for (let level = 0; level < LEVELS; level++) most = Math.max(most, table[column * LEVELS + level]);
      for (let level = 0; level < LEVELS; level++) {
        const count = table[column * LEVELS + level];
        if (!count) continue;
        const at = 4 * ((LEVELS - 1 - level) * COLUMNS + column);
        image.data.set([...tint, 60 + 195 * Math.sqrt(count / most)], at);
      }
    }
    inked.putImageData(image, 0, 0);
  }

  /** The median of every sixteenth of the way out. @param {Counted} found @param {{ x: number, y: number, width: number, height: number }} box */
  function course(found, box) {
    context.beginPath();
    for (let from = 0; from < COLUMNS; from += COLUMNS / 16) {
      const level = median(found, from, from + COLUMNS / 16);
      context.lineTo(box.x + ((from + COLUMNS / 32) / COLUMNS) * box.width, box.y + (1 - level / (LEVELS - 1)) * box.height);
    }
    context.strokeStyle = "#e8c15a";
    context.lineWidth = 2;
    context.stroke();
  }

  /** @param {{ x: number, y: number, width: number, height: number }} box @param {number} width */
  function graticule(box, width) {
    context.font = "10px 'Archivo', sans-serif";
    context.textBaseline = "middle";
    for (const percent of PERCENTS) {
      const y = box.y + (1 - percent / 100) * box.height;
      context.fillStyle = "rgba(230, 232, 234, 0.22)";
      context.fillRect(box.x, Math.round(y), box.width, 1);
      context.fillStyle = "#9aa3ac";
      context.textAlign = "right";
      context.fillText(String(percent), box.x - 5, y);
      context.textAlign = "left";
      context.fillText(String(Math.round(CODES.black + ((CODES.white - CODES.black) * percent) / 100)), width - MARGIN.right + 5, y);
    }
  }

  /** @param {[string, string]} names @param {{ x: number, y: number, width: number, height: number }} box */
  function ends([first, last], box) {
    const y = box.y + box.height + 12;
    context.fillStyle = "#9aa3ac";
    context.textAlign = "left";
    context.fillText(first, box.x, y);
    context.textAlign = "right";
    context.fillText(last, box.x + box.width, y);
  }

  return { draw };
}
