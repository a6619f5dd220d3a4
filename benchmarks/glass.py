"""Fall-off and dead edges, measured on films of photographs: panned by a hand behind known glass, exposure drifting.

    .venv/bin/python benchmarks/glass.py PICTURE [PICTURE ...]

Each picture is filmed through each glass, every second film with something that walks through. Says how far the light
that was told is off over the frame (per cent of the middle's, mean and worst), how far it said that it may be, whether
it was sure, and how long it took, of measuring the motion. Of a dead edge: how far off its worst place is, per cent of
the half-diagonal, and what was said.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np

from keen_horizon.core.finding.dead import FoundDead
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.media.probe import probe
from keen_horizon.pipeline.glass import measure_glass
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import darkened

SIZE, FRAMES, WIDE = Size(960, 540), 120, 1900
GLASS = {
    "strong, off-centre": Falloff((-0.6, 0.05), 0.03 - 0.02j),
    "late": Falloff((-0.1, -0.3, -0.05), -0.03 + 0.04j),
    "weak": Falloff((-0.1,), 0.02 + 0.05j),
    "none": Falloff((0.0,)),
}


DEAD = {
    "round": DeadEdge(0.88, 0.03 - 0.02j, softness=0.02),
    "soft": DeadEdge(0.9, -0.02 + 0.03j, softness=0.12),
    "hood": DeadEdge(None, 0j, ((0.03, 0.8), (np.pi / 4, 0.9), (-np.pi / 2 - 0.02, 0.43)), softness=0.03),
    "both": DeadEdge(0.9, 0.01j, ((np.pi / 2, 0.44),), softness=0.04),
}


def film(photograph: np.ndarray, seed: int, walks: bool) -> Iterator[np.ndarray]:
    """A photograph, panned across by a hand."""
    random = np.random.default_rng(seed)
    scale = max(WIDE / photograph.shape[1], 1.4 * SIZE.height / photograph.shape[0])
    photograph = cv2.resize(photograph, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
    grain = random.normal(0, 1.2, (SIZE.height, SIZE.width, 3))
    room = np.array(photograph.shape[1::-1]) - (SIZE.width, SIZE.height)
    way = np.linspace(-1, 1, FRAMES)
    shake = 25 * cv2.GaussianBlur(random.normal(size=(FRAMES, 2)), (1, 0), sigmaX=0.1, sigmaY=3)
    places = room / 2 + shake + 0.4 * room * np.stack([way, np.sin(2 * way)], -1)
    for number, place in enumerate(places):
        moved = np.array([[1, 0, -place[0]], [0, 1, -place[1]]])
        seen = cv2.warpAffine(photograph, moved, (SIZE.width, SIZE.height), borderMode=cv2.BORDER_REFLECT)
        if walks:
            left = round(SIZE.width * number / FRAMES)
            cv2.rectangle(seen, (left, 200), (left + 90, 480), (60, 70, 130), -1)
        yield np.clip(seen + np.roll(grain, number * 7, 1), 0, 255).astype(np.uint8)


def off(one: Falloff, other: Falloff) -> np.ndarray:
    """How far the light of two differs over the frame."""
    reach = SIZE.width / (2 * SIZE.half_diagonal), SIZE.height / (2 * SIZE.half_diagonal)
    x, y = np.meshgrid(*(np.linspace(-side, side, 60) for side in reach))
    return np.abs(one.gain(one.squares(x, y)) - other.gain(other.squares(x, y)))


def edge_off(found: DeadEdge | None, true: DeadEdge | None) -> float | None:
    """How far the worst place of the true edge lies from the one that was found; None without both."""
    if found is None or true is None:
        return None
    width, height = SIZE.width / (2 * SIZE.half_diagonal), SIZE.height / (2 * SIZE.half_diagonal)
    curve = np.concatenate(true.curves())
    on_it = (np.abs(true.room(curve)) < 1e-6) & (np.abs(curve.real) < width) & (np.abs(curve.imag) < height)
    return float(np.abs(found.room(curve[on_it])).max())


def said(found: FoundDead | None, true: DeadEdge | None) -> str:
    """A found dead edge in words."""
    if found is None:
        return "no dead edge found" + ("" if true is None else ", WRONGLY")
    if true is None:
        return f"a dead edge found WRONGLY: {found.edge}"
    return f"dead edge off by {100 * (edge_off(found.edge, true) or 0):.2f} %, said {100 * found.doubt:.2f} %"


def main() -> None:
    """Print a line a film."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("pictures", nargs="+", type=Path)
    with tempfile.TemporaryDirectory() as folder:
        for seed, path in enumerate(parser.parse_args().pictures):
            glasses = [(name, glass, None) for name, glass in GLASS.items()]
            glasses += [(name, Falloff((-0.4, 0.05)), dead) for name, dead in DEAD.items()]
            for name, glass, dead in glasses:
                clip = Path(folder) / "clip.mp4"
                pictures = film(cv2.imread(str(path)), seed, seed % 2 == 1)
                write_pictures(darkened(pictures, SIZE, glass, 0.1, dead=dead), SIZE, 30, clip, quality=20)
                info, times = probe(clip)
                began = time.perf_counter()
                measurement = measure_clip(clip, info, times, 0, info.frames - 1)
                between = time.perf_counter()
                told = measure_glass(clip, info, times, measurement)[0]
                share = (time.perf_counter() - between) / (between - began)
                wrong = 100 * off(told.falloff, glass)
                print(
                    f"{path.name}, {name}: off by {wrong.mean():.2f} % mean, {wrong.max():.2f} % worst; said "
                    f"{100 * told.mean:.2f}, {100 * told.doubt:.2f} %, {'sure' if told.enough else 'not sure'}; "
                    f"{share:.2f} x measuring; {said(told.dead, dead)}",
                    flush=True,
                )


if __name__ == "__main__":
    main()
