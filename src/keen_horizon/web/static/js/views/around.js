// @ts-check
// Draws a sphere's proxy with WebGL 2: all of it, or a view looked out of it, and the other one small in a corner.
import { build, makeMesh, texture } from "./graphics.js";

/** @typedef {import("../geometry/around.js").Camera} Camera */
/** @typedef {{ camera: Camera, turn: number[] }} Look what is drawn: source_from_out, row-major 3x3 on rays */

const KINDS = { flat: 1, cylinder: 2, stereographic: 3 };
const WIDEST = 960;

const VERTEX = `#version 300 es
in vec2 place;
out vec2 share;
void main() {
  share = place;
  gl_Position = vec4(2.0 * place.x - 1.0, 1.0 - 2.0 * place.y, 0.0, 1.0);
}`;

// The same rays as core/cameras/view.py and sphere.py have, and the sphere's own places.
const FRAGMENT = `#version 300 es
precision highp float;
uniform sampler2D picture;
uniform mat3 turn;
uniform vec2 size;
uniform float focal;
uniform float across;
uniform int kind;
in vec2 share;
out vec4 colour;
const float HALF_TURN = 3.14159265358979;
vec3 ray() {
  vec2 at = (share - 0.5) * size / focal;
  if (kind == 1) return vec3(at, 1.0);
  if (kind == 2) return vec3(sin(at.x), at.y, cos(at.x));
  if (kind == 3) return vec3(at, 1.0 - dot(at, at) / 4.0);
  vec2 angle = (share - 0.5) * vec2(2.0 * HALF_TURN, HALF_TURN);
  return vec3(sin(angle.x) * cos(angle.y), sin(angle.y), cos(angle.x) * cos(angle.y));
}
void main() {
  vec3 seen = turn * ray();
  vec2 at = vec2(atan(seen.x, seen.z) / across, atan(seen.y, length(seen.xz)) / HALF_TURN) + 0.5;
  bool nothing = at.x < 0.0 || at.x > 1.0;
  colour = nothing ? vec4(0.0, 0.0, 0.0, 1.0) : vec4(texture(picture, at).rgb, 1.0);
}`;

/**
 * @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {number} across rad of the clip's longitude
 * @returns {null | ReturnType<typeof around>} null without WebGL 2
 */
export function mountAround(canvas, video, across) {
  const gl = canvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true });
  return gl && around(gl, canvas, video, across);
}

/** @param {WebGL2RenderingContext} gl @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {number} across */
function around(gl, canvas, video, across) {
  const mesh = makeMesh(gl);
  const built = build(gl, VERTEX, FRAGMENT);
  texture(gl, gl.TEXTURE_2D, 0, gl.LINEAR);
  if (across > 6.28) gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.REPEAT);
  let loaded = false;

  /** @param {Look} look @param {number} x @param {number} y @param {number} width @param {number} height */
  function drawOne({ camera, turn }, x, y, width, height) {
    gl.viewport(x, y, width, height);
    const { places } = built;
    gl.uniformMatrix3fv(places.turn, true, turn);
    gl.uniform2f(places.size, camera.width, camera.height);
    gl.uniform1f(places.focal, camera.focal);
    gl.uniform1f(places.across, across);
    gl.uniform1i(places.kind, camera.projection ? KINDS[camera.projection] : 0);
    mesh.draw(built.place, 1, 1);
  }

  return {
    /** @param {number} width CSS px @param {number} aspect of what is drawn */
    resize(width, aspect) {
      canvas.width = Math.max(2, Math.round(Math.min(WIDEST, width)));
      canvas.height = Math.max(2, Math.round(canvas.width / aspect));
    },
    /** @param {Look} look @param {Look | null} inset and how it is drawn in the corner @param {number} share of the width that it takes */
    draw(look, inset, share) {
      if (video.readyState >= 2) {
        gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
        loaded = true;
      }
      if (!loaded) return;
      gl.useProgram(built.program);
      drawOne(look, 0, 0, canvas.width, canvas.height);
      if (!inset) return;
      const width = Math.round(canvas.width * share);
      const height = Math.round((width * inset.camera.height) / inset.camera.width);
      drawOne(inset, canvas.width - width, 0, width, height);
    },
    destroy() {
      mesh.destroy();
      gl.deleteProgram(built.program);
    },
  };
}
