"""How fast the viewer draws, against a bare shader that samples the same video through one matrix, on one page.

    .venv/bin/python benchmarks/viewer.py [URL of a bench]     (bin/start in another terminal)

Both draw the very same decoded frames at the viewer's own size as often as they can, by turns, a second and a half at
a time; the median of the ratios of neighbours counts. With nothing, a lens, rows and both of them. Then each scope, 960
px wide, counted and drawn as often as while the clip plays, against the viewer without one. On the bench of a sphere:
the sphere, a view with the sphere in its corner, and both with rows.
"""

from __future__ import annotations

import shutil
import statistics
import sys

from playwright.sync_api import Page, sync_playwright

FLAGS = ["--headless", "--no-sandbox", "--disable-quic", "--no-first-run", "--enable-unsafe-swiftshader"]
BENCH = "http://127.0.0.1:8460/clips/1"
TURNS = 5

RACE = """async ({ look, turns, scope }) => {
  const { mountViewer } = await import("/static/js/views/viewer.js");
  const { mountAround } = await import("/static/js/views/around.js");
  const video = document.querySelector("video");
  const size = look.size;
  const width = scope ? 960 : 868;
  const height = Math.round(width * size.height / size.width);
  const made = () => Object.assign(document.createElement("canvas"), { width, height });
  const canvas = made();
  const viewer = look.around ? mountAround(canvas, video, 2 * Math.PI) : mountViewer(canvas, video, size);
  viewer.resize(width, size.width / size.height);
  const bareCanvas = made();
  const gl = bareCanvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true });
  const shader = (kind, text) => {
    const made = gl.createShader(kind);
    gl.shaderSource(made, text);
    gl.compileShader(made);
    return made;
  };
  const program = gl.createProgram();
  gl.attachShader(program, shader(gl.VERTEX_SHADER, `#version 300 es
in vec2 place; out vec2 at;
void main() { at = place; gl_Position = vec4(place.x * 2.0 - 1.0, 1.0 - place.y * 2.0, 0.0, 1.0); }`));
  gl.attachShader(program, shader(gl.FRAGMENT_SHADER, `#version 300 es
precision highp float; uniform sampler2D picture; uniform mat3 matrix; in vec2 at; out vec4 colour;
void main() { vec3 p = matrix * vec3(at, 1.0); colour = vec4(texture(picture, p.xy / p.z).rgb, 1.0); }`));
  gl.linkProgram(program);
  gl.useProgram(program);
  gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
  gl.bufferData(gl.ARRAY_BUFFER, new Float32Array([0, 0, 1, 0, 0, 1, 1, 1]), gl.STATIC_DRAW);
  gl.enableVertexAttribArray(gl.getAttribLocation(program, "place"));
  gl.vertexAttribPointer(gl.getAttribLocation(program, "place"), 2, gl.FLOAT, false, 0, 0);
  gl.bindTexture(gl.TEXTURE_2D, gl.createTexture());
  for (const key of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER]) gl.texParameteri(gl.TEXTURE_2D, key, gl.LINEAR);
  for (const key of [gl.TEXTURE_WRAP_S, gl.TEXTURE_WRAP_T]) gl.texParameteri(gl.TEXTURE_2D, key, gl.CLAMP_TO_EDGE);
  gl.uniformMatrix3fv(gl.getUniformLocation(program, "matrix"), true, [0.95, 0.01, 0.02, -0.01, 0.95, 0.02, 0, 0, 1]);
  const pixel = new Uint8Array(4);
  const bare = () => {
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
    gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
    gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, pixel);
  };
  const view = canvas.getContext("webgl2");
  const ours = () => {
    if (look.around) viewer.draw(look.around, look.inset, 0.28, null, { place: 0.5, turn: 0 }, false);
    else viewer.update(look);
    view.readPixels(0, 0, 1, 1, view.RGBA, view.UNSIGNED_BYTE, pixel);
  };
  const { counted, mountScope } = await import("/static/js/views/scope.js");
  const { EVERY } = await import("/static/js/components/bench/scoping.js");
  const sheet = document.body.appendChild(document.createElement("canvas"));
  sheet.style = "width: 868px; height: 160px";
  const drawn = mountScope(sheet);
  let passed = 0;
  const scoped = () => {
    ours();
    if (passed++ % EVERY === 0) drawn.draw(counted(viewer.pixels(), scope), scope);
  };
  const [first, second] = scope ? [ours, scoped] : [bare, ours];
  const rate = (draw) => {
    const began = performance.now();
    let drawn = 0;
    while (performance.now() - began < 1500) { draw(); drawn++; }
    return (1000 * drawn) / (performance.now() - began);
  };
  if (look.lenses) look.lenses = look.lenses.map((lens) => lens && {
    ...lens,
    ratios: Float32Array.from(lens.ratios),
    rows: lens.rows && { turns: 0, figures: Float32Array.from(lens.rows) },
  });
  rate(first); rate(second);
  const found = [];
  for (let i = 0; i < turns; i++) found.push([rate(first), rate(second)]);
  viewer.destroy();
  return found;
}"""


def lens(bend: bool, rows: bool) -> dict:
    """A lens as the server lowers it; rows that lean and wobble."""
    table = [1 / (1 + 0.4 * (3 * i / 2047) ** 2) if bend else 1.0 for i in range(2048)]
    figures = [value for node in range(9) for value in (1.0, 1e-3 * node, 2e-3 * node - 8e-3, 1e-3 * node, 1e-4, 1e-4)]
    return {
        "reach": 3.0, "ratios": table, "step": 0.95, "squeeze": 1.0, "centre": [0, 0], "decentring": [0, 0, 0, 0, 0, 0],
        "homography": [1, 0, 0, 0, 1, 0, 0, 0, 1], "unrolling": None, "focal": 1.2, "rows": figures if rows else None,
    }  # fmt: skip


def race(page: Page, through: dict | None, scope: str = "") -> list[list[float]]:
    """Frames a second of the bare shader and of the viewer, by turns; of the viewer without and with a scope."""
    look = {
        "size": {"width": 1280, "height": 720}, "mode": "after", "before": [1, 0, 0, 0, 1, 0, 0, 0, 1],
        "after": [0.95, 0.01, 20, -0.01, 0.95, 20, 0, 0, 1], "frame": 0, "line": {"place": 0.5, "turn": 0},
        "loupe": None, "fine": False, "mark": False, "lending": None, "lenses": [None, through],
        **{part: [None, None] for part in ("meshes", "lights", "fringes", "hazes", "deads")},
        "veiled": False, "edges": False,
    }  # fmt: skip
    return page.evaluate(RACE, {"look": look, "turns": TURNS, "scope": scope})


def race_around(page: Page, view: bool, rows: bool) -> list[list[float]]:
    """The same of a sphere's viewer: a view with the sphere in its corner, or the sphere with the view there."""
    turned = {
        "turn": [0.9, 0.1, 0.4, -0.1, 0.99, 0, -0.4, 0, 0.9],
        "readTurn": [0.01, 0.02, 0.005] if rows else [0, 0, 0],
    }
    sphere = {"camera": {"projection": None, "width": 2, "height": 1, "focal": 1, "back": 0}, **turned}
    looked = {"camera": {"projection": "flat", "width": 1280, "height": 720, "focal": 640, "back": 0}, **turned}
    large, small = (looked, sphere) if view else (sphere, looked)
    size = {"width": 1280, "height": 720 if view else 640}
    return page.evaluate(RACE, {"look": {"size": size, "around": large, "inset": small}, "turns": TURNS, "scope": ""})


def told(name: str, found: list[list[float]]) -> None:
    """A line of a race: how fast the second was, of the first."""
    ratio = statistics.median(second / first for first, second in found)
    first, second = (statistics.median(pair[i] for pair in found) for i in (0, 1))
    print(f"{name}: {second:.1f} of {first:.1f} frames a second, ratio {ratio:.2f}", flush=True)


def main() -> None:
    """Print a line for each."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(sys.argv[1] if len(sys.argv) > 1 else BENCH)
        page.wait_for_function("document.querySelector('video').readyState >= 2")
        if page.locator("canvas.around").count():
            for name, view, rows in (("sphere", False, False), ("view", True, False), ("sphere, rows", False, True),
                                     ("view, rows", True, True)):  # fmt: skip
                told(name, race_around(page, view, rows))
            browser.close()
            return
        for name, through in (("nothing", None), ("lens", lens(True, False)), ("rows", lens(False, True)),
                              ("lens and rows", lens(True, True))):  # fmt: skip
            told(name, race(page, through))
        for scope in ("across", "down", "parade", "radius"):
            told(scope, race(page, lens(True, False), scope))
        browser.close()


if __name__ == "__main__":
    main()
