// @ts-check
// WebGL 2 in small pieces: a mesh, textures, tables, programs. They know nothing of what is drawn.

/** @typedef {{ program: WebGLProgram, places: Record<string, WebGLUniformLocation | null>, place: number }} Built */

/** A mesh of cells over the unit square. @param {WebGL2RenderingContext} gl */
export function makeMesh(gl) {
  const corners = gl.createBuffer();
  const order = gl.createBuffer();
  let [across, down] = [0, 0];

  /** @param {number} columns @param {number} rows */
  function lay(columns, rows) {
    [across, down] = [columns, rows];
    const places = new Float32Array(2 * (columns + 1) * (rows + 1));
    for (let y = 0, i = 0; y <= rows; y++) for (let x = 0; x <= columns; x++) places.set([x / columns, y / rows], 2 * i++);
    const triangles = new Uint16Array(6 * columns * rows);
    for (let y = 0, i = 0; y < rows; y++)
      for (let x = 0; x < columns; x++, i += 6) {
        const corner = y * (columns + 1) + x;
        triangles.set([corner, corner + 1, corner + columns + 1, corner + columns + 1, corner + 1, corner + columns + 2], i);
      }
    gl.bufferData(gl.ARRAY_BUFFER, places, gl.STATIC_DRAW);
    gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, triangles, gl.STATIC_DRAW);
  }

  return {
    /** @param {number} place the attribute of the corners @param {number} columns @param {number} rows of cells */
    draw(place, columns, rows) {
      gl.bindBuffer(gl.ARRAY_BUFFER, corners);
      gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, order);
      if (columns !== across || rows !== down) lay(columns, rows);
      gl.enableVertexAttribArray(place);
      gl.vertexAttribPointer(place, 2, gl.FLOAT, false, 0, 0);
      gl.drawElements(gl.TRIANGLES, 6 * across * down, gl.UNSIGNED_SHORT, 0);
    },
    destroy() {
      gl.deleteBuffer(corners);
      gl.deleteBuffer(order);
    },
  };
}

/** A table of `each` figures a step at another number of even steps. @param {Float32Array} table @param {number} wide @param {number} each @returns {ArrayLike<number>} */
export function stretched(table, wide, each) {
  const last = table.length / each - 1;
  if (last + 1 === wide) return table;
  const values = new Float32Array(wide * each);
  for (let i = 0; i < wide; i++) {
    const place = (i * last) / (wide - 1);
    const left = Math.min(Math.floor(place), last - 1);
    for (let k = 0; k < each; k++) {
      const [here, next] = [table[left * each + k], table[(left + 1) * each + k]];
      values[i * each + k] = here + (place - left) * (next - here);
    }
  }
  return values;
}

/** @param {WebGL2RenderingContext} gl @param {number} kind @param {number} unit @param {number} filter */
export function texture(gl, kind, unit, filter) {
  const made = /** @type {WebGLTexture} */ (gl.createTexture());
  gl.activeTexture(gl.TEXTURE0 + unit);
  gl.bindTexture(kind, made);
  for (const [key, value] of [
    [gl.TEXTURE_MIN_FILTER, filter], [gl.TEXTURE_MAG_FILTER, filter],
    [gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE], [gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE],
  ]) gl.texParameteri(kind, key, value);
  return made;
}

/** @param {WebGL2RenderingContext} gl @param {string} vertex @param {string} fragment @returns {Built} */
export function build(gl, vertex, fragment) {
  const program = /** @type {WebGLProgram} */ (gl.createProgram());
  for (const [kind, text] of /** @type {[number, string][]} */ ([[gl.VERTEX_SHADER, vertex], [gl.FRAGMENT_SHADER, fragment]])) {
    const shader = /** @type {WebGLShader} */ (gl.createShader(kind));
    gl.shaderSource(shader, text);
    gl.compileShader(shader);
    gl.attachShader(program, shader);
  }
  gl.linkProgram(program);
  if (!gl.getProgramParameter(program, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(program) || "shader");
  const count = gl.getProgramParameter(program, gl.ACTIVE_UNIFORMS);
  const names = Array.from({ length: count }, (_, i) => /** @type {WebGLActiveInfo} */ (gl.getActiveUniform(program, i)).name.replace("[0]", ""));
  const places = Object.fromEntries(names.map((name) => [name, gl.getUniformLocation(program, name)]));
  return { program, places, place: gl.getAttribLocation(program, "place") };
}
