"""Shake behind the demo's very wide lens: what is left at the corners, bent and straightened, against the truth.

.venv/bin/python benchmarks/wide.py var/demo/dinghy_03.mp4
"""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.picture import transform
from keen_horizon.core.lens.over_time import OpticsStage, optics_stage
from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.turns import camera_turns
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment import Treatment
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.simulator.camera import Lens

Floats = NDArray[np.float64]
CORNERS = np.array([[0.06, 0.11], [0.94, 0.11], [0.94, 0.89], [0.06, 0.89]])


def main(clip: Path) -> None:
    """Measure the clip, solve it and print what is left."""
    truth = json.loads(clip.with_suffix(".truth.json").read_text())
    lens = Lens(truth["lens"]["model"], truth["lens"]["focal_px"])
    turns = Rotation.from_quat([frame["world_from_camera_xyzw"] for frame in truth["frames"]])
    info, times = probe(clip)
    measured = measure_clip(clip, info, times, 0, info.frames - 1)
    square = (info.display.half_diagonal / lens.focal_px) ** 2
    straight = {"lens": {"family": lens.model, "coefficients": [square]}}
    stage = optics_stage(Treatment.from_json({"optics": straight}).optics, info.display, 0, info.frames - 1)
    if stage is not None:
        found = camera_turns(measured, stage)
        off = np.degrees(((turns[0].inv() * turns).inv() * found.rotations).magnitude())
        print(f"turns: {np.sqrt((off**2).mean()):.4f} degrees RMS off, {off.max():.4f} at most")
    for intent in ("hold", "glide"):
        for name, optics in (("bent", {}), ("straight", straight)):
            left, seconds = _solved(measured, intent, optics, lens, turns)
            print(f"{intent}, {name}: {left:.3f} px RMS left at the corners, solved in {seconds:.2f} s")


def _solved(
    measured: Measurement, intent: str, optics: dict[str, object], lens: Lens, turns: Rotation
) -> tuple[float, float]:
    motion = {"intent": intent, "freedom": ["shift", "turn", "size", "tilt"]}
    wanted = Treatment.from_json({"optics": optics, "motion": motion, "framing": {"edges": "leave"}})
    started = time.perf_counter()
    path = solve_path(measured, wanted)
    seconds = time.perf_counter() - started
    return _wobble(path, optics_stage(wanted.optics, measured.size, path.first, path.last), lens, turns), seconds


def _wobble(path: CameraPath, stage: OpticsStage | None, lens: Lens, turns: Rotation) -> float:
    """How far the output's corners stray from a camera that only turns, told by the output's middle; mean removed."""
    size = path.size
    middle = np.array([size.centre.real, size.centre.imag])
    corners = CORNERS * (size.width, size.height)
    near = middle + (CORNERS - 0.5) * (size.width / 4, size.height / 4)
    strayed = []
    for frame, src_from_out in enumerate(path.matrices()):
        seen = _camera(stage, lens, frame, middle)

        def world(points: Floats, frame: int = frame, matrix: Floats = src_from_out) -> Floats:
            return turns[frame].apply(_camera(stage, lens, frame, middle)(transform(matrix, points)))

        camera, _ = Rotation.align_vectors(world(near), seen(near))
        rays = camera.inv().apply(world(corners))
        strayed.append(_places(stage, lens, frame, middle, rays) - corners)
    apart = np.array(strayed) - np.mean(strayed, 0)
    return float(np.sqrt((apart**2).sum(-1).mean()))


def _camera(stage: OpticsStage | None, lens: Lens, frame: int, middle: Floats) -> Callable[[Floats], Floats]:
    return lambda points: lens.rays((stage.points(frame, points) if stage else points) - middle)


def _places(stage: OpticsStage | None, lens: Lens, frame: int, middle: Floats, rays: Floats) -> Floats:
    across = np.hypot(rays[:, 0], rays[:, 1])
    radius = lens.focal_px * np.arctan2(across, rays[:, 2])
    points = middle + rays[:, :2] * (radius / np.maximum(across, 1e-12))[:, None]
    return stage.straighten(frame, points) if stage else points


if __name__ == "__main__":
    main(Path(sys.argv[1]))
