"""Automatic lenses on cases whose lens is known: how straight true lines become, and how often it refuses.

    .venv/bin/python benchmarks/automatic.py [FOLDER OF PHOTOGRAPHS]

Views of the harbour town through made-up lenses, five frames each; and photographs, taken to be straight, bent by
lenses that are known then. Errors are RMS over forty lines that are straight in the world, at 1000 px wide.
"""

from __future__ import annotations

import sys
from pathlib import Path

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from glass import bent_picture, random_lens, rays_of, straight_things

from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.automatic import Edge, automatic_lens, picture_edges
from keen_horizon.core.lens.lens import NO_LENS, Lens
from keen_horizon.core.lens.straightedges import judged
from keen_horizon.simulator.demo import _world
from keen_horizon.simulator.panorama import Panorama

SIZE = Size(1280, 720)
BENDS = (NO_LENS, Lens("division", (-0.15,)), Lens("division", (-0.3,)), Lens("polynomial", (0.06, 0.0)))


def view(world: Panorama, lens: Lens, random: np.random.Generator) -> np.ndarray:
    x, y = np.meshgrid(np.arange(SIZE.width), np.arange(SIZE.height))
    rays = rays_of(lens, np.stack([x.ravel(), y.ravel()], -1).astype(float), SIZE)
    turned = Rotation.from_euler("YXZ", random.uniform((-25, -8, -4), (25, 8, 4)), degrees=True).apply(rays)
    u, v = (part.astype(np.float32) for part in world.pixels(turned.reshape(SIZE.height, SIZE.width, 3)))
    seen = cv2.remap(world.picture, u, v, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP)
    noisy = np.clip(seen + random.normal(0, 1.5, seen.shape), 0, 255).astype(np.uint8)
    return cv2.cvtColor(noisy, cv2.COLOR_BGR2GRAY)


def error(found: Lens, true: Lens, size: Size) -> float:
    lines = straight_things(true, 40, np.random.default_rng(1), 9, size=size)
    left = np.array(judged(found, lines, size).residuals)
    return float(np.sqrt((left**2).mean()) * 1000 / size.width)


def judge(name: str, edges: list[Edge], true: Lens, size: Size, accepted: list[tuple[float, float]]) -> None:
    try:
        found = automatic_lens(edges, size)
    except LensError as refusal:
        print(f"{name:40s} refused: {str(refusal)[:70]}")
        return
    accepted.append((error(found.lens, true, size), error(NO_LENS, true, size)))
    print(f"{name:40s} {accepted[-1][0]:.2f} px, as shot {accepted[-1][1]:.2f} px, confidence {found.confidence:.2f}")


def main() -> None:
    random, accepted = np.random.default_rng(5), []
    world = _world((0, -5.2, 0))
    for case in range(24):
        lens = random_lens(random) if case % 6 else NO_LENS
        edges = [edge for frame in range(5) for edge in picture_edges(view(world, lens, random), frame, SIZE)]
        judge(f"town, {lens.family} {np.round(lens.k, 2)}", edges, lens, SIZE, accepted)
    for file in sorted(Path(sys.argv[1]).iterdir()) if len(sys.argv) > 1 else ():
        photograph = cv2.imread(str(file), cv2.IMREAD_GRAYSCALE)
        if file.name.startswith(("left", "right")):
            continue  # calibration pictures of a camera that bends by itself
        if photograph is None:
            continue
        size = Size(photograph.shape[1], photograph.shape[0])
        for lens in BENDS:
            edges = picture_edges(bent_picture(photograph, lens), 0, size)
            judge(f"{file.name}, {lens.k}", edges, lens, size, accepted)
    errors, plain = np.array(accepted).T
    print(
        f"accepted {len(errors)}: median {np.median(errors):.2f}, worst {errors.max():.2f} px; "
        f"{(errors > plain + 0.3).sum()} made worse"
    )


if __name__ == "__main__":
    main()
