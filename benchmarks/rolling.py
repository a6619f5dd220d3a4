"""A rolling shutter undone: on photographs and a real film, shaken by hands that are known, row by row.

    .venv/bin/python benchmarks/rolling.py FILM [PICTURE ...]

Held, with the rows as they were and put right: how far parts of the frame move against each other, how far the whole
moves, what zoom that takes, and how long solving takes the first time and again. Then the demo's dinghy and quay as if
their cameras read rows for 0.6 of a frame, behind the lenses that they have.
"""

from __future__ import annotations

import time
from dataclasses import replace
from itertools import pairwise

import cv2
import numpy as np
from readout import COUNT, SHAKE_PX, SIZE, VIBRATION_PX, filmed, scenes_asked_for
from scipy.spatial.transform import Rotation

from keen_horizon.core.finding.readout import find_readout
from keen_horizon.core.geometry.similarity import Similarities, as_complex
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.demo import dinghy, quay_walk
from keen_horizon.simulator.film import Shot, take
from keen_horizon.simulator.plane import hand_shake

READOUTS = (0.35, -0.6, 0.9)
PLACES = np.stack([a.ravel() for a in np.meshgrid(np.linspace(60, 579, 9), np.linspace(40, 319, 7))], -1)


def strayed(path: CameraPath, readout: float, seed: int) -> tuple[float, float]:
    """How far places of the output move in the world: against each other, and all of them, px RMS."""
    poses_at, sampling = hand_shake(COUNT, SIZE, SHAKE_PX, seed, VIBRATION_PX), frame_map(path)
    world = []
    for frame in range(len(path)):
        source = sampling.places(frame, PLACES)
        rows: Similarities = poses_at(frame + readout * ((source[:, 1] + 0.5) / SIZE.height - 0.5))
        world.append(rows.z * as_complex(source) + rows.t)
    places, offsets = np.array(world), as_complex(PLACES) - as_complex(PLACES).mean()
    apart = places - places.mean(1, keepdims=True)
    turned = (np.conj(offsets) * apart).sum(1) / (np.abs(offsets) ** 2).sum()
    parts, whole = apart - turned[:, None] * offsets, places.mean(1) - places.mean()
    return float(np.sqrt((np.abs(parts) ** 2).mean())), float(np.sqrt((np.abs(whole) ** 2).mean()))


def turned(path: CameraPath, shot: Shot, readout: float) -> tuple[float, float]:
    """What the output shows, px RMS in the source's middle: how far it moves against the rest of it from frame to
    frame, and how far all of it moves.
    """
    size, sampling = shot.size, frame_map(path)
    grid = np.meshgrid(np.linspace(0.08, 0.92, 9) * size.width, np.linspace(0.08, 0.92, 7) * size.height)
    places, middle = np.stack([a.ravel() for a in grid], -1), (size.centre.real, size.centre.imag)
    rays = []
    for frame in range(len(path)):
        source = sampling.places(frame, places)
        times = (frame + readout * source[:, 1] / size.height) / shot.rate
        rays.append(shot.flight.rotation_at(times).apply(shot.lens.rays(source - middle)))
    apart = []
    for one, other in pairwise(rays):
        between, _ = Rotation.align_vectors(other, one)
        apart.append(np.linalg.norm(between.apply(one) - other, axis=1))
    whole = np.mean(rays, axis=1)
    strayed = np.linalg.norm(whole - whole.mean(0), axis=1)
    return tuple(float(np.sqrt((np.array(off) ** 2).mean()) * shot.lens.focal_px) for off in (apart, strayed))


def behind_lenses(readout: float = 0.6, count: int = 120) -> None:
    """Print a line a lens."""
    flat = {"lens": {"family": "division", "coefficients": [0.0]}}
    for make in (dinghy, quay_walk):
        shot = make(count)
        shot = replace(shot, sensor=replace(shot.sensor, readout_s=readout / shot.rate))
        focal = shot.lens.focal_px / shot.size.half_diagonal
        wide = {"lens": {"family": "equidistant", "coefficients": [focal**-2]}}
        optics = wide if shot.lens.model == "equidistant" else flat | {"focal": focal}
        tracker = MotionTracker.start(shot.size)
        for number, picture in enumerate(take(shot)):
            tracker.add(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), number / shot.rate)
        measurement = tracker.finish(0)
        measurement = replace(measurement, readout=find_readout(measurement))
        left = []
        for shutter in ("off", "measured"):
            motion = {"intent": "hold", "rolling_shutter": shutter}
            wanted = {"optics": optics, "motion": motion, "edges": {"zoom_limit": 1.6}}
            left.append(turned(solve_path(measurement, Treatment.from_json(wanted)), shot, readout))
        (parts, whole), (parts_now, whole_now) = left
        told = f"{measurement.readout.frames:+.3f}, {'told' if measurement.readout.enough else 'not told'}"
        print(
            f"{shot.name} (found {told}): parts {parts:.3f} -> {parts_now:.3f} px ({parts / parts_now:.1f} x), "
            f"whole {whole:.3f} -> {whole_now:.3f} px",
            flush=True,
        )


def main() -> None:
    """Print a line a picture and readout."""
    scenes = scenes_asked_for(__doc__)
    behind_lenses()
    for name, picture_of in scenes.items():
        for seed, readout in enumerate(READOUTS, 5):
            tracker = MotionTracker.start(SIZE)
            for number, frame in enumerate(filmed(picture_of, readout, seed)):
                tracker.add(frame, number / 25)
            measurement = tracker.finish(0)
            measurement = replace(measurement, readout=find_readout(measurement))
            told = []
            for shutter in ("off", "measured"):
                wanted = {"motion": {"intent": "hold", "rolling_shutter": shutter}, "edges": {"zoom_limit": 1.5}}
                treatment = Treatment.from_json(wanted)
                began = time.perf_counter()
                path = solve_path(measurement, treatment)
                first = time.perf_counter() - began
                solve_path(measurement, treatment)
                again = time.perf_counter() - began - first
                parts, whole = strayed(path, readout, seed)
                told.append((parts, whole, float(path.zoom.max()), first, again))
            (parts, whole, zoom, *_), (parts_now, whole_now, zoom_now, first, again) = told
            print(f"{name} {readout:+.2f} (found {measurement.readout.frames:+.3f}):", end=" ")
            print(f"parts {parts:.3f} -> {parts_now:.3f} px ({parts / parts_now:.1f} x),", end=" ")
            print(f"whole {whole:.3f} -> {whole_now:.3f} px, zoom {zoom:.3f} -> {zoom_now:.3f},", end=" ")
            print(f"solved in {first:.2f} s, again {again:.2f} s", flush=True)


if __name__ == "__main__":
    main()
