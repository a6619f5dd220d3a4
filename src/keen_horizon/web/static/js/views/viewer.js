// @ts-check
// Draws the proxy through the sampling map with WebGL 2: for every output pixel the source point is found
// with the same matrix that the renderer uses, so what is seen is what will be written. Gaps are hatched.

const VERTEX = `#version 300 es
in vec2 place;
out vec2 at;
void main() { at = place; gl_Position = vec4(place.x * 2.0 - 1.0, 1.0 - place.y * 2.0, 0.0, 1.0); }`;

const FRAGMENT = `#version 300 es
precision highp float;
uniform sampler2D picture;
uniform mat3 srcFromOut;
uniform vec2 size;
uniform float split;   // left of it the source is shown
uniform vec2 pixels;
uniform bool fine;     // standing pictures are sampled with the renderer's cubic kernel
in vec2 at;
out vec4 colour;

vec4 weights(float t) {
  const float a = -0.75;
  vec4 d = vec4(1.0 + t, t, 1.0 - t, 2.0 - t);
  vec2 near = ((a + 2.0) * d.yz - (a + 3.0)) * d.yz * d.yz + 1.0;
  vec2 far = ((a * d.xw - 5.0 * a) * d.xw + 8.0 * a) * d.xw - 4.0 * a;
  return vec4(far.x, near, far.y);
}

vec3 cubic(vec2 source) {
  ivec2 last = textureSize(picture, 0) - 1;
  vec2 place = source * vec2(last + 1) - 0.5;
  ivec2 corner = ivec2(floor(place));
  vec4 across = weights(place.x - floor(place.x)), down = weights(place.y - floor(place.y));
  vec3 sum = vec3(0.0);
  for (int y = 0; y < 4; y++)
    for (int x = 0; x < 4; x++)
      sum += across[x] * down[y] * texelFetch(picture, clamp(corner + ivec2(x - 1, y - 1), ivec2(0), last), 0).rgb;
  return sum;
}

void main() {
  vec3 out_point = vec3(at * size - 0.5, 1.0);
  vec3 found = at.x < split ? out_point : srcFromOut * out_point;
  vec2 source = (found.xy / found.z + 0.5) / size;
  if (any(lessThan(source, vec2(0.0))) || any(greaterThan(source, vec2(1.0)))) {
    float stripe = step(0.5, fract((at.x * pixels.x + at.y * pixels.y) / 14.0));
    colour = vec4(mix(vec3(0.10, 0.106, 0.114), vec3(0.30, 0.22, 0.21), stripe), 1.0);
    return;
  }
  colour = vec4(fine ? cubic(source) : texture(picture, source).rgb, 1.0);
}`;

const WIDEST = 960; // the proxy has no more, and software drawing stays quick

/** @typedef {{ srcFromOut: number[], mode: "source" | "result" | "wipe" | "side", wipe: number, fine: boolean }} Look */

/**
 * @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {{ width: number, height: number }} size display size
 * @returns {null | { update: (look: Look) => void, resize: (width: number) => void, destroy: () => void }} null without WebGL 2
 */
export function mountViewer(canvas, video, size) {
  const gl = canvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true });
  if (!gl) return null;
  const program = build(gl);
  const uniform = (/** @type {string} */ name) => gl.getUniformLocation(program, name);
  const places = { srcFromOut: uniform("srcFromOut"), size: uniform("size"), split: uniform("split"), pixels: uniform("pixels"), fine: uniform("fine") };
  const buffer = gl.createBuffer();
  gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
  gl.bufferData(gl.ARRAY_BUFFER, new Float32Array([0, 0, 1, 0, 0, 1, 1, 1]), gl.STATIC_DRAW);
  const place = gl.getAttribLocation(program, "place");
  gl.enableVertexAttribArray(place);
  gl.vertexAttribPointer(place, 2, gl.FLOAT, false, 0, 0);
  const texture = gl.createTexture();
  gl.bindTexture(gl.TEXTURE_2D, texture);
  for (const [key, value] of [
    [gl.TEXTURE_MIN_FILTER, gl.LINEAR], [gl.TEXTURE_MAG_FILTER, gl.LINEAR],
    [gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE], [gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE],
  ]) gl.texParameteri(gl.TEXTURE_2D, key, value);

  /** @param {number} x @param {number} y @param {number} width @param {number} height @param {number[]} matrix @param {number} split */
  function draw(x, y, width, height, matrix, split) {
    gl.viewport(x, y, width, height);
    gl.uniformMatrix3fv(places.srcFromOut, true, new Float32Array(matrix));
    gl.uniform2f(places.size, size.width, size.height);
    gl.uniform2f(places.pixels, width, height);
    gl.uniform1f(places.split, split);
    gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
  }

  return {
    update(look) {
      if (video.readyState < 2) return;
      gl.useProgram(program);
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
      gl.uniform1i(places.fine, Number(look.fine));
      const { width, height } = canvas;
      if (look.mode === "side") {
        const half = Math.floor(width / 2) - 1;
        gl.clearColor(0.086, 0.094, 0.102, 1);
        gl.clear(gl.COLOR_BUFFER_BIT);
        const tall = Math.round((half * size.height) / size.width);
        const low = Math.round((height - tall) / 2);
        draw(0, low, half, tall, look.srcFromOut, 2);
        draw(width - half, low, half, tall, look.srcFromOut, -1);
        return;
      }
      const split = look.mode === "source" ? 2 : look.mode === "wipe" ? look.wipe : -1;
      draw(0, 0, width, height, look.srcFromOut, split);
    },
    resize(width) {
      canvas.width = Math.min(WIDEST, Math.max(2, Math.round(width * devicePixelRatio)));
      canvas.height = Math.max(2, Math.round((canvas.width * size.height) / size.width));
    },
    destroy() {
      gl.deleteTexture(texture);
      gl.deleteBuffer(buffer);
      gl.deleteProgram(program);
    },
  };
}

/** @param {WebGL2RenderingContext} gl */
function build(gl) {
  const program = /** @type {WebGLProgram} */ (gl.createProgram());
  for (const [kind, text] of /** @type {[number, string][]} */ ([[gl.VERTEX_SHADER, VERTEX], [gl.FRAGMENT_SHADER, FRAGMENT]])) {
    const shader = /** @type {WebGLShader} */ (gl.createShader(kind));
    gl.shaderSource(shader, text);
    gl.compileShader(shader);
    gl.attachShader(program, shader);
  }
  gl.linkProgram(program);
  if (!gl.getProgramParameter(program, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(program) || "shader");
  return program;
}
