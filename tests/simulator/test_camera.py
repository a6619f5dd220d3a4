"""The simulated camera sees what its truth says."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.probe import probe
from keen_horizon.simulator.camera import Lens, Sensor, band_noise, flight
from keen_horizon.simulator.film import Shot, take, write_shot
from keen_horizon.simulator.layers import boat_layer
from keen_horizon.simulator.panorama import Panorama, paint_panorama
from keen_horizon.simulator.town import build_town

SIZE = Size(320, 180)
TIMES = np.arange(80) / 240
CLEAN = Sensor(noise=0)


@pytest.fixture(scope="module")
def world() -> Panorama:
    return paint_panorama(build_town(), np.array([0.0, -6.0, 0.0]), width=3072)


def shot(world: Panorama, yaw: np.ndarray, sensor: Sensor = CLEAN, **parts: object) -> Shot:
    path = flight(TIMES, yaw, 0 * TIMES, 0 * TIMES, np.zeros((len(TIMES), 3)) + [0, -6, 0])
    made = Shot("test", SIZE, 30, 4, world, [], path, Lens("rectilinear", 400), sensor)
    return replace(made, **parts)


def test_rays_of_both_lens_models() -> None:
    offsets = np.array([[0.0, 0.0], [100.0, 0.0], [0.0, 200.0]])
    straight, wide = Lens("rectilinear", 100).rays(offsets), Lens("equidistant", 100).rays(offsets)
    assert np.allclose(straight[0], [0, 0, 1])
    assert np.allclose(straight[1], [np.sqrt(0.5), 0, np.sqrt(0.5)])
    assert np.allclose(wide[1], [np.sin(1), 0, np.cos(1)])
    assert np.allclose(wide[2], [0, np.sin(2), np.cos(2)])


def test_a_turn_moves_the_picture_by_the_lens_equation(world: Panorama) -> None:
    angle = 2.0
    still = next(take(shot(world, 0 * TIMES)))
    turned = next(take(shot(world, 0 * TIMES + angle)))
    centre = (slice(60, 120), slice(130, 190))
    found, _ = cv2.phaseCorrelate(
        cv2.cvtColor(still, cv2.COLOR_BGR2GRAY)[centre].astype(np.float32),
        cv2.cvtColor(turned, cv2.COLOR_BGR2GRAY)[centre].astype(np.float32),
    )
    assert found[0] == pytest.approx(-400 * np.tan(np.radians(angle)), abs=0.5)
    assert found[1] == pytest.approx(0, abs=0.3)


def test_truth_is_the_flight(world: Panorama) -> None:
    truth = shot(world, 30 * TIMES).truth()
    x, y, z, w = truth["frames"][3]["world_from_camera_xyzw"]
    assert (x, z) == pytest.approx((0, 0), abs=1e-6)
    assert 2 * np.degrees(np.arctan2(y, w)) == pytest.approx(30 * 0.1, abs=1e-4)


def test_rolling_shutter_skews_and_falloff_darkens(world: Panorama) -> None:
    yaw = 60 * TIMES
    plain = next(take(shot(world, yaw))).astype(int)
    skewed = next(take(shot(world, yaw, Sensor(readout_s=0.03, noise=0)))).astype(int)
    difference = np.abs(plain - skewed).mean((1, 2))
    assert difference[150:].mean() > 2 * difference[:10].mean()
    dark = next(take(shot(world, yaw, lens=Lens("rectilinear", 400, falloff=0.6)))).astype(int)
    assert dark[0, 0].mean() < 0.8 * plain[0, 0].mean()
    assert np.abs(dark[90, 160] - plain[90, 160]).max() <= 2


def test_same_seed_same_pictures(world: Panorama) -> None:
    noisy = Sensor(noise=2.0, seed=9)
    first, second = (list(take(shot(world, 5 * TIMES, noisy))) for _ in range(2))
    assert all(np.array_equal(a, b) for a, b in zip(first, second, strict=True))
    assert not np.array_equal(first[0], next(take(shot(world, 5 * TIMES, Sensor(noise=2.0, seed=10)))))


def test_near_things_shift_against_far_ones(world: Panorama) -> None:
    layer = boat_layer(20.0, -4.0, 8.0, (60, 62, 168), 0.0, 3)
    rays = np.array([[0.0, 0.25, 1.0]])
    left, _ = layer.pixels(rays, np.array([0.0, -6.0, 0.0]), 0.0)
    right, _ = layer.pixels(rays, np.array([1.0, -6.0, 0.0]), 0.0)
    assert right[0] - left[0] == pytest.approx(layer.density)


def test_band_noise_keeps_to_its_band() -> None:
    times = np.arange(2000) / 200
    noise = band_noise(np.random.default_rng(1), times, 1.0, 4.0, 0.5)
    power = np.abs(np.fft.rfft(noise)) ** 2
    frequency = np.fft.rfftfreq(2000, 1 / 200)
    assert noise.std() == pytest.approx(0.5)
    assert power[(frequency < 0.9) | (frequency > 4.1)].sum() < 1e-9 * power.sum()


def test_a_clip_has_sound_and_truth_beside_it(world: Panorama, tmp_path: Path) -> None:
    clip = write_shot(shot(world, 5 * TIMES), tmp_path)
    info, _ = probe(clip)
    assert (info.frames, info.sound, info.coded) == (4, "aac", SIZE)
    assert len(json.loads((tmp_path / "test.truth.json").read_text())["frames"]) == 4
    assert sorted(path.name for path in tmp_path.iterdir()) == ["test.mp4", "test.truth.json"]
