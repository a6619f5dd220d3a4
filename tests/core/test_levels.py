"""Level: read off pictures whose roll the simulator knows, drawn by hand, and refused where nothing shows it."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
import pytest
from truth import SMALL, rms
from walks import HD, treated, walked

from keen_horizon.core.motion.levels import HORIZON, UPRIGHTS, Levels, LevelSight, joined_levels, see_level
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.levelling import level_angles, level_note
from keen_horizon.core.path.notes import outcome_notes
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.parts import LevelLine
from keen_horizon.simulator.camera import Lens, Sensor, band_noise, flight
from keen_horizon.simulator.film import Shot, take
from keen_horizon.simulator.panorama import Panorama, paint_panorama
from keen_horizon.simulator.town import build_town

COUNT = 90


@pytest.fixture(scope="module")
def town() -> Panorama:
    """The town."""
    return paint_panorama(build_town(), np.array([0.0, -5.2, 0.0]))


def rolled(
    world: Panorama, yaw: float, pitch: float, wobble: float = 0.0
) -> tuple[Measurement, np.ndarray, np.ndarray]:
    """A rolling, panning clip that wobbles by so many degrees; its true roll per frame, radians, and where its middle
    looks (N,) complex, px to the right and down.
    """
    times = np.arange((COUNT + 2) * 8) / 240
    random = np.random.default_rng(7)
    roll = 2.5 * np.sin(2 * np.pi * 0.4 * times) + band_noise(random, times, 0.5, 4.0, 0.6)
    wobbles = [band_noise(random, times, 0.8, 5.0, wobble) if wobble else 0 * times for _ in range(2)]
    path = flight(
        times, yaw + 2.0 * times + wobbles[0], pitch + wobbles[1], roll, np.tile([0.0, -5.2, 0.0], (len(times), 1))
    )
    shot = Shot("rolled", HD, 30, COUNT, world, [], path, Lens("rectilinear", 1240), Sensor(noise=1.5))
    tracker = MotionTracker.start(HD)
    for number, picture in enumerate(take(shot)):
        tracker.add(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), number / 30)
    turns = path.rotation_at(np.arange(COUNT) / 30).as_matrix()
    down = np.einsum("nji,j->ni", turns, [0, 1, 0])
    ahead = np.einsum("nij,j->ni", turns, [0, 0, 1])
    heading = np.unwrap(np.arctan2(ahead[:, 0], ahead[:, 2]))
    looked = 1240 * (heading - heading[0] + 1j * np.arcsin(ahead[:, 1]))
    return tracker.finish(0), np.arctan2(-down[:, 0], down[:, 1]), looked


@pytest.mark.parametrize(("yaw", "kind", "by"), [(-6.0, UPRIGHTS, "upright edges"), (140.0, HORIZON, "a horizon")])
def test_roll_is_level_within_a_tenth_of_a_degree(town: Panorama, yaw: float, kind: int, by: str) -> None:
    """Bar 2, on building verticals and on a horizon: what is left after levelling, against the truth."""
    measurement, truth, _ = rolled(town, yaw, 1.0)
    path = treated(measurement, {"intent": "level"}, {"way": "leave"})
    left = np.degrees(truth - np.angle(path.correction.z))
    sure = np.degrees(measurement.levels.sigma.max())
    print(f"{by}: {rms(left):.3f} degrees RMS of {np.degrees(rms(truth)):.2f}, sure to {sure:.3f}")
    assert rms(left) <= 0.1
    assert (measurement.levels.kind == kind).mean() > 0.9
    assert by in level_note(measurement, ())
    assert np.abs(path.correction.t).max() < 1e-9
    assert np.abs(path.correction.z) == pytest.approx(1, abs=1e-9)


def test_a_flight_is_level_and_the_rest_of_it_glides(town: Panorama) -> None:
    measurement, roll, looked = rolled(town, 140.0, 1.0, wobble=0.25)
    flown = {"intent": "level", "level_glide": True, "response_s": 1.5}
    path = treated(measurement, flown, {"way": "leave"})
    left = np.degrees(roll - np.angle(path.correction.z))
    looks = looked + path.correction.t * np.exp(-1j * roll)
    before, after = (rms(np.abs(np.diff(way, 2))) for way in (looked, looks))
    print(f"roll left {rms(left):.3f} degrees, shake {before:.2f} to {after:.2f} px a frame squared")
    assert rms(left) <= 0.1
    assert after < 0.1 * before
    assert np.abs(looks - looked).max() < 60  # it goes along with the pan
    assert "Put upright by up to" in outcome_notes(path, Treatment.from_json({"motion": flown}))[0]
    only_level = treated(measurement, {"intent": "level"}, {"way": "leave"})
    assert np.abs(only_level.correction.t).max() < 1e-9


def test_neither_is_said_and_a_drawn_line_takes_over(town: Panorama) -> None:
    random = np.random.default_rng(3)
    base = 128 + 900 * cv2.GaussianBlur(random.normal(0, 1, (600, 900)), (0, 0), 6)
    tracker = MotionTracker.start(SMALL)
    rolls = np.radians(3 * np.sin(np.arange(40) / 6))
    for number, roll in enumerate(rolls):
        turn = cv2.getRotationMatrix2D((450, 300), -np.degrees(roll), 1.0)
        turn[:, 2] -= (130, 120)
        seen = cv2.warpAffine(base, turn, (640, 360))
        tracker.add(np.clip(seen + random.normal(0, 2, seen.shape), 0, 255).astype(np.uint8), number / 30)
    measurement = tracker.finish(0)
    assert "Neither a horizon nor uprights" in level_note(measurement, ())
    assert np.angle(treated(measurement, {"intent": "level"}).correction.z) == pytest.approx(0)
    across = np.array([np.cos(rolls[10]), np.sin(rolls[10])]) * 200
    line = {"frame": 10, "x1": 300 - across[0], "y1": 180 - across[1], "x2": 300 + across[0], "y2": 180 + across[1]}
    path = treated(measurement, {"intent": "level", "level": {"lines": [line]}}, {"way": "leave"})
    assert np.degrees(np.angle(path.correction.z)) == pytest.approx(np.degrees(rolls), abs=0.1)
    assert "1 drawn line." in level_note(measurement, (LevelLine(**line),))


def test_lines_mend_what_the_clip_says_and_may_be_upright() -> None:
    measurement = replace(walked(50, 1), levels=Levels(np.full(50, 0.1), np.full(50, 0.001), np.ones(50, np.int8)))
    level = LevelLine(frame=10, x1=0, y1=0, x2=100, y2=0)
    upright = LevelLine(frame=30, x1=0, y1=0, x2=0, y2=100)
    tilted = LevelLine(frame=30, x1=0, y1=0, x2=-100 * np.tan(0.2), y2=100)
    assert level_angles(measurement, (level,)) == pytest.approx(0)
    assert level_angles(measurement, (level, upright)) == pytest.approx(0, abs=1e-12)
    blended = level_angles(measurement, (tilted, level))
    assert blended[[0, 10, 20, 30, 49]] == pytest.approx([0, 0, 0.1, 0.2, 0.2])


def test_a_lone_picture() -> None:
    assert see_level(np.full((360, 640), 90, np.uint8)) is None
    sea = np.full((360, 640), 190, np.uint8)
    cv2.fillPoly(sea, [np.array([[0, 200], [640, 228], [640, 360], [0, 360]])], 90)
    noise = np.random.default_rng(0).normal(0, 6, (360, 640))
    noise[sea > 100] *= 0.2
    sight = see_level(np.clip(sea + noise, 0, 255).astype(np.uint8))
    assert sight is not None
    assert sight.kind == HORIZON
    assert sight.angle == pytest.approx(np.arctan(28 / 640), abs=np.radians(0.1))


def test_a_wrong_sight_is_outvoted() -> None:
    truth = np.cumsum(np.random.default_rng(1).normal(0, 0.004, 100))
    sights = [(i, LevelSight(truth[i], 0.002, UPRIGHTS)) for i in range(0, 100, 8)]
    sights[5] = (40, LevelSight(truth[40] + 0.3, 0.002, UPRIGHTS))
    nothing = np.zeros(99, bool)
    found = joined_levels(sights, np.diff(truth), nothing, nothing)
    assert found.angle == pytest.approx(truth, abs=0.003)
    assert found.sigma.max() < 0.003
