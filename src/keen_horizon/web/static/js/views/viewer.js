// @ts-check
// Draws the proxy through the frame map with WebGL 2 (see shaders.js), in all the ways two pictures of one
// frame are compared. A mesh carries the map: of cells as small as the renderer's where the picture stands, larger while
// it moves. Programs are built when first used.
import { IDENTITY, about, inverse, product } from "../geometry/matrix.js";
import { NODES } from "../geometry/rows.js";
import { build, makeMesh, stretched, texture } from "./graphics.js";
import { DEAD_SIDES, LENDERS, TABLES, fragmentShader, vertexShader } from "./shaders.js";

const WIDEST = 960; // the proxy has no more, and software drawing stays quick
const CELL = 8; // pixels, as the renderer's mesh has
const MOVING_CELL = 32; // while pictures pass: a tenth of a pixel off at most, and triangles are what software GL pays for
const NOWHERE = [0, 0, -1e6, 0, 0, -1e6, 0, 0, 1]; // a matrix that sends everything outside
const LENT_EVERY = 2; // frames between those that are kept for lending
export const POWER = 4;
const LOUPE = 1 / 7; // its radius, of the picture's width
const UNITS = { picture: 0, recent: 1, exact: 2, tables: 3, rows: 4, lifts: 5, meshes: 6 };

/** @typedef {import("../geometry/lens.js").Lens} Lens */
/** @typedef {import("../geometry/mesh.js").Mesh} Mesh */
/**
 * @typedef {object} Light how coded values are lifted where light falls off: see core/mapping/light.py
 * @property {Float32Array} factors @property {number} reach @property {[number, number]} centre
 * @property {number} offset @property {number} toe @property {number} corner_stops
 */
/**
 * @typedef {object} Fringe how much further out than green red and blue lie: see core/mapping/light.py
 * @property {[number, number]} red @property {[number, number]} blue @property {[number, number]} centre
 */
/**
 * @typedef {object} Haze how colours lose saturation near edges: see core/glass/haze.py
 * @property {number} amount @property {[number, number]} direction @property {number} half_width
 * @property {number} reach @property {[number, number]} edge
 */
/**
 * @typedef {object} Dead where the source's picture ends: see core/mapping/light.py
 * @property {number | null} radius @property {[number, number]} centre @property {[number, number, number][]} sides @property {number} zoom @property {number} limit
 */
/**
 * @typedef {object} Look
 * @property {"before" | "after" | "wipe" | "side" | "difference" | "onion"} mode
 * @property {number[]} before @property {number[]} after src_from_out of either side
 * @property {number} frame
 * @property {{ place: number, turn: number }} line of the wipe
 * @property {[number, number] | null} loupe its middle, in shares of the picture
 * @property {boolean} fine @property {boolean} mark
 * @property {(Mesh | null)[]} meshes that bend either side
 * @property {(Lens | null)[]} lenses of either side @property {(Light | null)[]} lights likewise
 * @property {(Haze | null)[]} hazes likewise
 * @property {(Dead | null)[]} deads likewise @property {boolean} veiled what is dead before is shown as shot, behind a veil
 * @property {(Fringe | null)[]} fringes likewise @property {boolean} edges show edges only
 * @property {{ first: number, reach: number, reference_from_src: number[][], growth: number[], lensAt: (frame: number) => Lens | null, meshAt: (frame: number) => Mesh | null } | null} lending
 */
/** @typedef {{ x: number, y: number, width: number, height: number }} Box pixels of the canvas, from its lower left */
/** @typedef {import("./graphics.js").Built} Built */

/**
 * @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {{ width: number, height: number }} size display size
 * @returns {null | ReturnType<typeof viewer>} null without WebGL 2
 */
export function mountViewer(canvas, video, size) {
  const gl = canvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true });
  return gl && viewer(gl, canvas, video, size);
}

/** @param {WebGL2RenderingContext} gl @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {{ width: number, height: number }} size */
function viewer(gl, canvas, video, size) {
  /** @type {Map<string, Built>} by their parts */ const programs = new Map();
  const mesh = makeMesh(gl);
  const current = texture(gl, gl.TEXTURE_2D, UNITS.picture, gl.LINEAR);
  const ring = texture(gl, gl.TEXTURE_2D_ARRAY, UNITS.recent, gl.LINEAR);
  const served = texture(gl, gl.TEXTURE_2D, UNITS.exact, gl.LINEAR);
  const glass = texture(gl, gl.TEXTURE_2D, UNITS.tables, gl.NEAREST);
  const shutter = texture(gl, gl.TEXTURE_2D, UNITS.rows, gl.NEAREST);
  const lifts = texture(gl, gl.TEXTURE_2D, UNITS.lifts, gl.NEAREST);
  const meshes = texture(gl, gl.TEXTURE_2D, UNITS.meshes, gl.NEAREST);
  /** @type {(Float32Array | null)[]} the tables of lenses and projections that the graphics hold */ let held = [];
  /** @type {(Light | null)[]} the lights that they hold */ let lit = [];
  let exactly = false;
  let read = new Uint8Array(0); // what is on show, once it was asked for
  /** @type {{ texture: WebGLTexture, matrix: number[], lens: Lens | null, mesh: Mesh | null }[]} */
  let onion = [];
  /** @type {number[]} the frame kept in each layer of the ring */
  let kept = [];

  /** Keep the picture on show for frames that come after it. @param {number} frame */
  function keep(frame) {
    gl.activeTexture(gl.TEXTURE0 + UNITS.recent);
    if (!kept.length) {
      gl.texImage3D(gl.TEXTURE_2D_ARRAY, 0, gl.RGBA, video.videoWidth, video.videoHeight, LENDERS, 0, gl.RGBA, gl.UNSIGNED_BYTE, null);
      kept = Array(LENDERS).fill(-1);
    }
    const layer = Math.floor(frame / LENT_EVERY) % LENDERS;
    if (kept[layer] === frame) return;
    gl.texSubImage3D(gl.TEXTURE_2D_ARRAY, 0, 0, 0, layer, video.videoWidth, video.videoHeight, 1, gl.RGBA, gl.UNSIGNED_BYTE, video);
    kept[layer] = frame;
  }

  /** What leads into the kept frames that may lend to this one: matrices before the projection, and homographies after it.
   * A layer that may not maps everything outside. @param {Look} look @returns {{ before: number[], after: number[] }} */
  function lenders(look) {
    const { reference_from_src: poses, growth, first, reach } = /** @type {NonNullable<Look["lending"]>} */ (look.lending);
    const lens = look.lenses[1];
    const turned = lens && lens.view ? product(inverse(lens.view), lens.homography) : null;
    const middle = turned ? [0, 0] : [(size.width - 1) / 2, (size.height - 1) / 2];
    const before = [], after = [];
    for (const frame of kept) {
      const [here, there] = [look.frame - first, frame - first];
      const near = poses[there] && poses[here] && frame !== look.frame && Math.abs(frame - look.frame) <= reach;
      if (!near) before.push(...NOWHERE);
      const lent = near ? product(product(inverse(poses[there]), poses[here]), about(middle, growth[here] / growth[there])) : IDENTITY;
      if (near) before.push(...(turned ? look.after : product(lent, look.after)));
      after.push(...(lens ? (turned ? product(/** @type {number[]} */ (lens.view), product(lent, turned)) : lens.homography) : IDENTITY));
    }
    return { before, after };
  }

  /** Hand the lenses' tables to the graphics, where they changed. @param {Look} look */
  function tabulate(look) {
    const tables = look.lenses.flatMap((lens) => (lens ? [lens.ratios, lens.unrolling && lens.unrolling.factors] : [null, null]));
    if (held.length && tables.every((table, i) => table === held[i])) return;
    held = tables;
    const wide = Math.max(2, ...look.lenses.map((lens) => (lens ? lens.ratios.length : 0)));
    const values = new Float32Array(2 * wide * 4).fill(1);
    look.lenses.forEach((lens, side) => {
      const row = values.subarray(4 * wide * side, 4 * wide * (side + 1));
      const ratios = lens && stretched(lens.ratios, wide, 1);
      const factors = lens && lens.unrolling && stretched(lens.unrolling.factors, wide, 3);
      for (let i = 0; i < wide; i++) {
        if (ratios) row[4 * i] = ratios[i];
        for (let k = 0; factors && k < 3; k++) row[4 * i + 1 + k] = factors[3 * i + k];
      }
    });
    gl.activeTexture(gl.TEXTURE0 + UNITS.tables);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA32F, wide, 2, 0, gl.RGBA, gl.FLOAT, values);
  }

  /** Hand what is lifted to the graphics, where that changed. @param {Built} built @param {Look} look */
  function lighten({ places }, look) {
    gl.uniform4fv(places.lightA, look.lights.flatMap((light) => (light ? [1, light.reach, light.offset, light.toe] : [0, 1, 0, 0])));
    gl.uniform2fv(places.lightB, look.lights.flatMap((light) => (light ? light.centre : [0, 0])));
    if (lit.length && look.lights.every((light, side) => light === lit[side])) return;
    lit = look.lights;
    const wide = Math.max(2, ...lit.map((light) => (light ? light.factors.length : 0)));
    const values = lit.flatMap((light) => (light ? Array.from(light.factors) : Array(wide).fill(1)));
    gl.activeTexture(gl.TEXTURE0 + UNITS.lifts);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.R32F, wide, 2, 0, gl.RED, gl.FLOAT, new Float32Array(values));
  }

  /** How the rows of both sides, and of every frame that lends, moved. @param {Built} built @param {Look} look */
  function shut({ places }, look) {
    const [before, after] = look.lenses.map((lens) => lens && lens.rows);
    const rows = before || after;
    gl.uniform3f(places.shutter, Number(!!before), Number(!!after), rows ? rows.turns : 0);
    if (!rows) return;
    const lent = after && look.lending ? kept.map((frame) => /** @type {NonNullable<Look["lending"]>} */ (look.lending).lensAt(frame)) : [];
    const values = new Float32Array(TABLES * NODES * 8);
    [before, after, ...lent.map((lens) => lens && lens.rows)].forEach((each, table) => {
      for (let node = 0; each && node < NODES; node++)
        values.set(each.figures.subarray(6 * node, 6 * node + 6), 8 * (table * NODES + node));
    });
    gl.activeTexture(gl.TEXTURE0 + UNITS.rows);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA32F, 2 * NODES, TABLES, 0, gl.RGBA, gl.FLOAT, values);
  }

  /** How the pictures of both sides, and of every frame that lends, are bent. @param {Built} built @param {Look} look */
  function bend({ places }, look) {
    const [before, after] = look.meshes;
    const { rows, columns } = /** @type {Mesh} */ (before || after);
    const { lending } = look;
    const lent = after && lending ? kept.map((frame) => lending.meshAt(frame)) : [];
    const values = new Float32Array(TABLES * rows * columns * 2);
    [before, after, ...lent].forEach((mesh, table) => mesh && values.set(mesh.controls, 2 * rows * columns * table));
    gl.uniform2i(places.controls, columns, rows);
    gl.activeTexture(gl.TEXTURE0 + UNITS.meshes);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RG32F, columns, rows * TABLES, 0, gl.RG, gl.FLOAT, values);
  }

  /** What both sides are seen through. @param {Built} built @param {Look} look */
  function straighten(built, look) {
    const { places } = built;
    tabulate(look);
    shut(built, look);
    gl.uniform4fv(places.lensA, look.lenses.flatMap((lens) => (lens ? [1, lens.reach, lens.step, lens.squeeze] : [0, 1, 1, 1])));
    gl.uniform2fv(places.centres, look.lenses.flatMap((lens) => (lens ? lens.centre : [0, 0])));
    gl.uniform3fv(places.decentring, look.lenses.flatMap((lens) => (lens ? lens.decentring : Array(6).fill(0))));
    gl.uniform3fv(places.unrolling, look.lenses.flatMap((lens) => (lens && lens.unrolling ? [lens.focal * lens.unrolling.reach, 1, Number(!lens.unrolling.across)] : [0, 1, 1])));
    gl.uniformMatrix3fv(places.homographies, true, look.lenses.flatMap((lens) => (lens ? lens.homography : IDENTITY)));
  }

  /**
   * Draw a part of the picture, shares of it, into a box.
   * @param {Box} box @param {Look} look @param {"before" | "after" | "wipe" | "difference"} mode
   * @param {[number, number, number, number]} [part] @param {[number, number, number] | null} [loupe] middle and radius, pixels
   */
  function draw(box, look, mode, part = [0, 0, 1, 1], loupe = null) {
    const lends = look.lending !== null && (kept.length > 0 || exactly) && mode !== "before";
    const built = programFor({
      glass: look.lenses.some(Boolean), mesh: look.meshes.some(Boolean), sides: mode === "wipe" || mode === "difference" ? mode : "one", lends, fine: look.fine, loupe: loupe !== null,
      light: look.lights.some(Boolean), fringe: look.fringes.some(Boolean), haze: look.hazes.some(Boolean), dead: look.deads.some(Boolean), edges: look.edges,
    });
    const { places } = built;
    gl.useProgram(built.program);
    for (const [name, unit] of Object.entries(UNITS)) gl.uniform1i(places[name], unit);
    gl.uniformMatrix3fv(places.matrices, true, new Float32Array([...look.before, ...look.after]));
    if (look.lenses.some(Boolean)) straighten(built, look);
    if (look.meshes.some(Boolean)) bend(built, look);
    if (look.lights.some(Boolean)) lighten(built, look);
    if (look.hazes.some(Boolean)) {
      gl.uniform4fv(places.hazeA, look.hazes.flatMap((haze) => (haze ? [haze.amount, ...haze.direction, haze.half_width] : [0, 1, 0, 1])));
      gl.uniform3fv(places.hazeB, look.hazes.flatMap((haze) => (haze ? [haze.reach, ...haze.edge] : [0, 0, 1])));
    }
    if (look.deads.some(Boolean)) {
      gl.uniform4fv(places.deadA, look.deads.flatMap((dead) => (dead ? [...dead.centre, dead.radius || 0, dead.sides.length] : [0, 0, 0, 0])));
      const none = Array(DEAD_SIDES).fill([0, 0, 0]);
      gl.uniform3fv(places.deadB, look.deads.flatMap((dead) => [...(dead ? dead.sides : []), ...none].slice(0, DEAD_SIDES).flat()));
      gl.uniform1i(places.veiled, Number(look.veiled));
    }
    if (look.fringes.some(Boolean)) {
      gl.uniform4fv(places.fringeA, look.fringes.flatMap((fringe) => (fringe ? [...fringe.red, ...fringe.blue] : [0, 0, 0, 0])));
      gl.uniform2fv(places.fringeB, look.fringes.flatMap((fringe) => (fringe ? fringe.centre : [0, 0])));
    }
    if (lends) {
      if (kept.length) {
        const { before, after } = lenders(look);
        gl.uniformMatrix3fv(places.lending, true, new Float32Array(before));
        gl.uniformMatrix3fv(places.lentHomographies, true, new Float32Array(after));
      }
      gl.uniform1i(places.exactly, Number(exactly));
      gl.uniform1i(places.mark, Number(look.mark));
    }
    gl.uniform1i(places.first, mode === "before" ? 0 : 1);
    gl.uniform4f(places.part, ...part);
    gl.uniform2f(places.size, size.width, size.height);
    gl.uniform2f(places.pixels, box.width / part[2], box.height / part[3]);
    gl.uniform2f(places.line, look.line.place, look.line.turn);
    if (loupe) gl.uniform3f(places.loupe, ...loupe);
    gl.viewport(box.x, box.y, box.width, box.height);
    const cell = look.fine ? CELL : MOVING_CELL;
    mesh.draw(built.place, Math.ceil(box.width / cell), Math.ceil(box.height / cell));
  }

  /** The loupe: what lies around the pointer, POWER times as large, in a circle. @param {Look} look @param {"before" | "after" | "wipe" | "difference"} mode */
  function drawLoupe(look, mode) {
    const { width, height } = canvas;
    const [x, y] = /** @type {[number, number]} */ (look.loupe);
    const radius = Math.round(width * LOUPE);
    const box = { x: Math.round(x * width) - radius, y: Math.round((1 - y) * height) - radius, width: 2 * radius, height: 2 * radius };
    const [across, down] = [(2 * radius) / width / POWER, (2 * radius) / height / POWER];
    draw(box, look, mode, [x - across / 2, y - down / 2, across, down], [box.x + radius, box.y + radius, radius]);
  }

  /** @param {Look} look */
  function update(look) {
    if (video.readyState < 2) return;
    if (look.lending && look.frame % LENT_EVERY === 0) keep(look.frame);
    gl.activeTexture(gl.TEXTURE0 + UNITS.picture);
    gl.bindTexture(gl.TEXTURE_2D, current);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
    const { width, height } = canvas;
    const whole = { x: 0, y: 0, width, height };
    if (look.mode === "side") {
      const half = Math.floor(width / 2) - 1;
      gl.clearColor(0.086, 0.094, 0.102, 1);
      gl.clear(gl.COLOR_BUFFER_BIT);
      const tall = Math.round((half * size.height) / size.width);
      const y = Math.round((height - tall) / 2);
      draw({ x: 0, y, width: half, height: tall }, look, "before");
      draw({ x: width - half, y, width: half, height: tall }, look, "after");
    } else if (look.mode === "onion" && onion.length === 2) drawOnion(whole, look);
    else {
      const mode = look.mode === "onion" ? "after" : look.mode;
      draw(whole, look, mode);
      if (look.loupe) drawLoupe(look, mode);
    }
  }

  /** The first and the last frame laid over each other. @param {Box} whole @param {Look} look */
  function drawOnion(whole, look) {
    gl.blendColor(0.5, 0.5, 0.5, 0.5);
    onion.forEach((skin, i) => {
      if (i) {
        gl.enable(gl.BLEND);
        gl.blendFunc(gl.CONSTANT_COLOR, gl.ONE_MINUS_CONSTANT_COLOR);
      }
      gl.activeTexture(gl.TEXTURE0 + UNITS.picture);
      gl.bindTexture(gl.TEXTURE_2D, skin.texture);
      draw(whole, { ...look, after: skin.matrix, lenses: [look.lenses[0], skin.lens], meshes: [look.meshes[0], skin.mesh], lending: null }, "after");
    });
    gl.disable(gl.BLEND);
  }

  /** @param {import("./shaders.js").Parts} parts @returns {Built} */
  function programFor(parts) {
    const key = JSON.stringify(parts);
    const known = programs.get(key);
    if (known) return known;
    const built = build(gl, vertexShader(parts), fragmentShader(parts));
    programs.set(key, built);
    return built;
  }

  return {
    update,
    /** What is on show, rows from the lowest; overwritten when it is asked for again. */
    pixels() {
      const { width, height } = canvas;
      if (read.length !== 4 * width * height) read = new Uint8Array(4 * width * height);
      gl.readPixels(0, 0, width, height, gl.RGBA, gl.UNSIGNED_BYTE, read);
      return { data: read, width, height };
    },
    /** The frame on show as the server makes it, for what other frames lend; null when it is another one. @param {HTMLImageElement | null} image */
    serve(image) {
      exactly = image !== null;
      if (!image) return;
      gl.activeTexture(gl.TEXTURE0 + UNITS.exact);
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, image);
    },
    /** Take the picture on show as the next skin of the onion. @param {number[]} matrix @param {Lens | null} lens @param {Mesh | null} mesh */
    peel(matrix, lens, mesh) {
      if (onion.length === 2) onion.splice(0).forEach((skin) => gl.deleteTexture(skin.texture));
      const skin = texture(gl, gl.TEXTURE_2D, UNITS.picture, gl.LINEAR);
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
      onion.push({ texture: skin, matrix, lens, mesh });
    },
    /** @param {number} width */
    resize(width) {
      canvas.width = Math.min(WIDEST, Math.max(2, Math.round(width * devicePixelRatio)));
      canvas.height = Math.max(2, Math.round((canvas.width * size.height) / size.width));
    },
    destroy() {
      for (const made of [current, ring, served, glass, shutter, lifts, meshes, ...onion.map((skin) => skin.texture)]) gl.deleteTexture(made);
      onion = [];
      mesh.destroy();
      for (const { program } of programs.values()) gl.deleteProgram(program);
    },
  };
}
