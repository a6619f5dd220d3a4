"""Measuring fall-off from clips, against the glass that they were made behind."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from truth import SMALL

from keen_horizon.core.finding.falloff import FoundFalloff
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.media.probe import probe
from keen_horizon.pipeline.glass import measure_glass
from keen_horizon.pipeline.light import told_dead
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import darkened
from keen_horizon.simulator.plane import jitter, shaken_pictures

FRAMES = 90


def panned(still: bool = False) -> Similarities:
    """A hand that pans over the town, there and back, or one that stands still."""
    if still:
        return Similarities.identity(FRAMES)
    shake = jitter(FRAMES, SMALL, 8.0, seed=4)
    way = np.linspace(0, 2 * np.pi, FRAMES)
    return Similarities(shake.z, shake.t + 130 * np.sin(way) + 60j * np.sin(2 * way))


def found(
    path: Path, glass: Falloff, walkers: int = 0, still: bool = False, dead: DeadEdge | None = None
) -> FoundFalloff:
    pictures = shaken_pictures(panned(still), SMALL, walkers=walkers)
    write_pictures(darkened(pictures, SMALL, glass, drift=0.1, dead=dead), SMALL, 30, path, quality=18)
    info, times = probe(path)
    return measure_glass(path, info, times, measure_clip(path, info, times, 0, FRAMES - 1))[0]


def apart(one: Falloff, other: Falloff) -> np.ndarray:
    """How far the light of two differs over the frame."""
    x, y = np.meshgrid(np.linspace(-0.87, 0.87, 30), np.linspace(-0.49, 0.49, 30))
    return np.abs(one.gain(one.squares(x, y)) - other.gain(other.squares(x, y)))


@pytest.mark.parametrize(
    ("coefficients", "centre", "walkers"),
    [((-0.6, 0.05), 0.03 - 0.02j, 0), ((-0.1, -0.2), 0j, 2)],
    ids=["off_centre", "people_walking"],
)
def test_the_glass_is_told(tmp_path: Path, coefficients: tuple[float, ...], centre: complex, walkers: int) -> None:
    glass = Falloff(coefficients, centre)
    told = found(tmp_path / "clip.mp4", glass, walkers)
    off = apart(told.falloff, glass)
    print(f"off by {100 * off.mean():.2f} % mean, {100 * off.max():.2f} % worst; doubt {100 * told.doubt:.2f} %")
    assert told.enough
    assert off.mean() <= 0.01
    assert off.max() <= 0.03
    assert off.max() <= 2.5 * told.doubt


def test_a_camera_that_stands_still_does_not_tell(tmp_path: Path) -> None:
    assert not found(tmp_path / "still.mp4", Falloff((-0.5,)), still=True).enough


@pytest.mark.parametrize("still", [False, True])
def test_dead_corners_are_told_and_left_out_of_the_fall_off(tmp_path: Path, still: bool) -> None:
    """They are told by a camera that stands still, too, where the scene behind is bright enough."""
    glass, hood = Falloff((-0.4, 0.05)), DeadEdge(0.85, 0.03 - 0.02j, softness=0.03)
    told = found(tmp_path / "clip.mp4", glass, still=still, dead=hood)
    assert told.dead is not None
    edge = told.dead.edge
    assert edge.radius == pytest.approx(0.85, abs=0.01)
    assert abs(edge.centre - hood.centre) < 0.01
    assert edge.softness == pytest.approx(0.03, abs=0.015)
    assert "No light arrives beyond a circle of 0.8" in told_dead(told.dead)
    assert told.enough is not still
    if not still:
        x, y = np.meshgrid(np.linspace(-0.87, 0.87, 30), np.linspace(-0.49, 0.49, 30))
        lit = hood.room(x + 1j * y) > 0.03
        assert apart(told.falloff, glass)[lit].max() <= 0.03
