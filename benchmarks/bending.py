"""Bending: films of two depths staged from photographs, a camera that shifts, all motions known.

    .venv/bin/python benchmarks/bending.py FOLDER_OF_PICTURES

The folder is Debian's opencv-doc's examples/data. Says for every film by how much near and far move apart beside one
plane (RMS px of what the steadied path leaves unsteady, both sheets' points in the delivered picture), and with the
mesh; how far it bends, stretches and zooms; and how long solving takes, first and once the points' fields are known.
"""

from __future__ import annotations

import argparse
import time
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
from believing import COUNT, RATE, SIZE, Stage
from scipy.linalg import solveh_banded

from keen_horizon.core.geometry.similarity import as_complex
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.program import difference_bands
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.path.wish import pull_of
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.staged import Sheet, laid_out, shape, staged

SHAKE_PX = 5.5
INVERSE_ROUNDS = 12


@dataclass(frozen=True)
class Film:
    """Sheets from the rearmost, and the bend that is allowed, px."""

    name: str
    sheets: list[Sheet]
    limit: float


def grounds(stage: Stage, pictures: tuple[str, str], top: float, ratio: float, walk: float = 0.0) -> list[Sheet]:
    """A scene behind ground whose motion is so many times as large, walked along by so many px a frame."""
    back = stage.picture(pictures[0], 1500 + round(abs(walk) * COUNT))
    near = stage.picture(pictures[1], round(1700 + abs(walk) * ratio * COUNT), 620)
    shift = stage.shake(SHAKE_PX) + walk * (np.arange(COUNT) - COUNT / 2)
    z, centre = stage.turned(), SIZE.centre
    opaque = np.ones(near.shape)
    edge = 14 * np.sin(np.arange(near.shape[1]) / 37) + 16
    opaque[np.arange(near.shape[0])[:, None] < edge] = 0
    own = complex(SIZE.width / 2, top * SIZE.height + near.shape[0] / 2 - 16)
    return [
        Sheet.of(back, laid_out(centre + z * shift, z, back)),
        Sheet.of(near, laid_out(centre + z * (own - centre + ratio * shift), z, near), opaque),
    ]


def beside(stage: Stage, pictures: tuple[str, str], share: float, ratio: float) -> list[Sheet]:
    """A scene behind a near thing with an outline, to the left of its middle."""
    back = stage.picture(pictures[0], 1500)
    shift, z, centre = stage.shake(SHAKE_PX), stage.turned(), SIZE.centre
    width = np.sqrt(share * SIZE.width * SIZE.height / 1.4 / 0.9)
    near = stage.picture(pictures[1], round(width), round(width * 1.4))
    middle = centre + z * (300 + 280j - centre + ratio * shift)
    return [
        Sheet.of(back, laid_out(centre + z * shift, z, back)),
        Sheet.of(near, laid_out(middle, z, near), shape(near)),
    ]


def films(folder: Path) -> list[Film]:
    """Films that the method was built on, then others of other pictures and seeds."""

    def stage(seed: int) -> Stage:
        return Stage(folder, seed)

    return [
        Film("built: ground, 1.6", grounds(stage(21), ("home.jpg", "fruits.jpg"), 0.6, 1.6), 4),
        Film("built: ground, 1.6, walked along", grounds(stage(22), ("building.jpg", "baboon.jpg"), 0.6, 1.6, 2.0), 4),
        Film("built: a thing beside, 2.5", beside(stage(26), ("building.jpg", "fruits.jpg"), 0.25, 2.5), 12),
        Film("built: plain", [stage(14).scene("building.jpg")[0]], 4),
        Film("ground, 1.6", grounds(stage(71), ("graf1.png", "board.jpg"), 0.5, 1.6), 4),
        Film("ground, 1.6, walked along", grounds(stage(72), ("box_in_scene.png", "aloeL.jpg"), 0.65, 1.6, 3.0), 4),
        Film("ground, 1.3", grounds(stage(73), ("aloeR.jpg", "butterfly.jpg"), 0.55, 1.3), 4),
        Film("a thing beside, 1.6", beside(stage(74), ("graf3.png", "box.png"), 0.2, 1.6), 4),
        Film("ground, 2.0", grounds(stage(75), ("fruits.jpg", "building.jpg"), 0.6, 2.0), 12),
        Film("ground, 2.5", grounds(stage(76), ("aloeL.jpg", "home.jpg"), 0.6, 2.5), 12),
        Film("a thing beside, 2.5", beside(stage(77), ("home.jpg", "graf1.png"), 0.3, 2.5), 12),
        Film("plain, panning", [stage(78).scene("fruits.jpg", 3.0)[0]], 4),
    ]


def seen_points(sheets: list[Sheet], place: int) -> tuple[np.ndarray, np.ndarray]:
    """Points of a sheet (N, P, 2) in the film, and where they are seen (N, P)."""
    x, y = np.meshgrid(np.linspace(60, 900, 15), np.linspace(40, 500, 9))
    grid = np.column_stack([x.ravel(), y.ravel(), np.ones(x.size)])
    on_sheet = grid @ np.linalg.inv(sheets[place].frame_from_sheet[COUNT // 2]).T
    points, seen = [], []
    for frame in range(COUNT):
        found = on_sheet @ sheets[place].frame_from_sheet[frame].T
        found = found[:, :2] / found[:, 2:]
        inside = ((found > 5) & (found < (SIZE.width - 6, SIZE.height - 6))).all(1)
        for other in range(max(1, place), len(sheets)):
            inside &= (opaque_at(sheets[other], frame, found) > 0.5) == (other == place)
        points.append(found)
        seen.append(inside)
    return np.array(points), np.array(seen)


def opaque_at(sheet: Sheet, frame: int, points: np.ndarray) -> np.ndarray:
    """How opaque a sheet is at points of a frame."""
    there = np.column_stack([points, np.ones(len(points))]) @ np.linalg.inv(sheet.frame_from_sheet[frame]).T
    x, y = there[:, :1].astype(np.float32), there[:, 1:2].astype(np.float32)
    return cv2.remap(sheet.opaque.astype(np.float32), x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)[:, 0]


def delivered(path: CameraPath, points: np.ndarray) -> np.ndarray:
    """Where source points (N, P, 2) lie in the delivered picture (N, P)."""
    sampling = frame_map(path)
    places = []
    for frame, wanted in enumerate(points):
        found = wanted.copy()
        for _ in range(INVERSE_ROUNDS):
            found += wanted - sampling.places(frame, found)
        places.append(as_complex(found))
    return np.array(places)


def smooth(places: np.ndarray, treatment: Treatment) -> np.ndarray:
    """Places (N, P), smooth as the path is."""
    pull = pull_of(treatment.motion, 0, COUNT, RATE)
    bands = difference_bands(pull.first, pull.third)
    both = np.concatenate([places.real, places.imag], 1)
    found = solveh_banded(bands, both - both[0], lower=True) + both[0]
    return found[:, : places.shape[1]] + 1j * found[:, places.shape[1] :]


def apart(film: Film, bent: CameraPath, treatment: Treatment) -> list[tuple[float, float]]:
    """For each sheet, RMS px of what is unsteady beside the scene's own motion, unbent and bent."""
    unbent, found = replace(bent, bending=None), []
    as_scene = delivered(unbent, seen_points(film.sheets[:1], 0)[0])
    for place in range(len(film.sheets)):
        points, seen = seen_points(film.sheets, place)
        before, after = (delivered(path, points) - as_scene for path in (unbent, bent))
        wanted = smooth(before, treatment)
        found.append(tuple(float(np.sqrt((np.abs(moved - wanted)[seen] ** 2).mean())) for moved in (before, after)))
    return found


def told(film: Film) -> None:
    """One film's figures."""
    tracker = MotionTracker.start(SIZE)
    for number, (frame, _) in enumerate(staged(film.sheets, SIZE)):
        tracker.add(frame, number / RATE)
    measurement = tracker.finish(0)
    treatment = Treatment()
    plain = solve_path(measurement, treatment)
    motion = treatment.motion.model_copy(update={"bend_limit_px": float(film.limit)})
    begin = time.perf_counter()
    bent = solve_path(measurement, treatment.model_copy(update={"motion": motion}))
    first = time.perf_counter() - begin
    begin = time.perf_counter()
    edges = treatment.edges.model_copy(update={"zoom_limit": 1.2})
    solve_path(measurement, treatment.model_copy(update={"motion": motion, "edges": edges}))
    again = time.perf_counter() - begin
    sheets = apart(film, bent, treatment)
    before, after = (np.sqrt(np.mean([pair[side] ** 2 for pair in sheets])) for side in (0, 1))
    each = ", ".join(f"{b:.2f} -> {a:.2f}" for b, a in sheets)
    ratio = f"{before / after:.2f} x" if before > 0.02 else "-"
    bending = bent.bending
    assert bending is not None
    print(
        f"{film.name:36} {film.limit:4.0f} px  {ratio:>7}  ({each})",
        f"said {bending.apart_px:.2f} -> {bending.left_px:.2f}",
        f"bent {bending.largest:.2f} px, stretch {100 * bending.stretch:.1f} %",
        f"zoom {plain.zoom.max():.3f} -> {bent.zoom.max():.3f}",
        f"solved in {first:.1f} s, then {again:.1f} s",
        sep="  ",
        flush=True,
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    for film in films(parser.parse_args().folder):
        told(film)


if __name__ == "__main__":
    main()
