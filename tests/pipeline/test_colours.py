"""Measuring fringes from clips, against the glass that they were made behind."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.core.finding.fringe import FoundFringe
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.pipeline.glass import measure_glass
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import fringed
from keen_horizon.simulator.plane import jitter, shaken_pictures

SIZE, FRAMES = Size(1280, 720), 40
SLOW = 60.0  # px that the hand pans to either side
CORNERS = np.array([-1, 1]) * SIZE.width / 2 + 1j * np.array([[-1], [1]]) * SIZE.height / 2


def without_edges(picture: np.ndarray) -> np.ndarray:
    """A picture smoothed over 30 px, at an eighth of its size: that is as smooth."""
    small = cv2.resize(picture, None, fx=1 / 8, fy=1 / 8, interpolation=cv2.INTER_AREA)
    return cv2.resize(cv2.GaussianBlur(small, (0, 0), 30 / 8), picture.shape[1::-1], interpolation=cv2.INTER_CUBIC)


def found(path: Path, glass: Fringe, plain: bool = False) -> FoundFringe:
    """What a clip of the town tells; `plain`: of a wall without an edge."""
    shake, way = jitter(FRAMES, SIZE, 6.0, seed=4), np.linspace(0, 2 * np.pi, FRAMES)
    poses = Similarities(shake.z, shake.t + SLOW * np.sin(way) + 0.5j * SLOW * np.sin(2 * way))
    sharp = shaken_pictures(poses, SIZE, noise=1.0)
    pictures = (without_edges(picture) if plain else cv2.GaussianBlur(picture, (0, 0), 0.8) for picture in sharp)
    write_pictures(fringed(pictures, SIZE, glass), SIZE, 30, path, quality=14)
    info, times = probe(path)
    return measure_glass(path, info, times, measure_clip(path, info, times, 0, FRAMES - 1))[1]


def off(one: Fringe, other: Fringe) -> list[float]:
    """How far red and blue of two lie apart at the worst corner, px of 1080p."""
    places = CORNERS / SIZE.half_diagonal
    pairs = zip(one.colours, other.colours, strict=True)
    return [float(np.abs(one.seen(a, places) - other.seen(b, places)).max()) * 1101 for a, b in pairs]


@pytest.mark.parametrize(
    "glass", [Fringe((0.0017, 0.0), (-0.0016, 0.0), 0.02 - 0.01j), Fringe()], ids=["fringes", "none"]
)
def test_the_glass_is_told(tmp_path: Path, glass: Fringe) -> None:
    told = found(tmp_path / "clip.mp4", glass)
    wrong = off(told.fringe, glass)
    print(f"off by {wrong[0]:.3f}, {wrong[1]:.3f} px of 1080p; doubts {[round(1101 * d, 3) for d in told.doubts]}")
    assert max(wrong) <= 0.25 or not glass.any  # painted walls have edges of their own, and it says so
    assert all(error <= 2.5 * 1101 * doubt for error, doubt in zip(wrong, told.doubts, strict=True))
    for edges, spread in zip(told.edges, told.fringe.colours, strict=True):
        radius, shift = edges.T
        assert len(edges) > 50
        left = shift - radius * (spread[0] + spread[1] * radius**2)
        assert np.median(np.abs(left)) * 1101 < 0.5  # they are what the line was fitted to


def test_a_picture_without_edges_does_not_tell(tmp_path: Path) -> None:
    assert not found(tmp_path / "wall.mp4", Fringe((0.002, 0.0)), plain=True).enough
    black = tmp_path / "black.mp4"
    write_pictures((np.zeros((90, 160, 3), np.uint8) for _ in range(4)), Size(160, 90), 30, black, quality=20)
    info, times = probe(black)
    told = measure_glass(black, info, times, Measurement.still(info.display, 0, times))[1]
    assert not told.enough
    assert told.fringe == Fringe()
