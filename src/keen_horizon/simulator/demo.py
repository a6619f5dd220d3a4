"""The demo project "Port Merrow": clips for a film of its boat week, made by the simulator."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.simulator.camera import Lens, Sensor, band_noise, flight
from keen_horizon.simulator.film import Shot, write_shot
from keen_horizon.simulator.layers import boat_layer, railing_layer, walker_layer
from keen_horizon.simulator.panorama import Panorama, paint_panorama
from keen_horizon.simulator.town import build_town

Floats = NDArray[np.float64]

SIZE = Size(1280, 720)
RATE = 30


def quay_walk(frames: int = 256) -> Shot:
    """Handheld, walking along the quay opposite the town, people passing behind the railing."""
    times, random = _samples(frames), np.random.default_rng(101)
    step = 2 * np.pi * 1.85 * times
    walk = -4.0 + 0.75 * times
    yaw = -7 + 1.3 * times + _hand(random, times, 0.42) + 0.22 * np.sin(step / 2)
    pitch = 1.2 + _hand(random, times, 0.36) + 0.30 * np.sin(step) + _bump(times, 6.3, 3.4)
    roll = _hand(random, times, 0.42) + 0.35 * np.sin(step / 2 + 0.6)
    height = -5.2 + 0.025 * np.sin(step)
    layers = [
        boat_layer(38.0, -18.0, 9.0, (60, 62, 168), 0.9, 5),
        railing_layer(7.4, -22.0, 26.0, -3.6),
        walker_layer(6.3, -1.5, -3.6, (150, 92, 58), 0.95),
        walker_layer(5.9, 6.5, -3.6, (70, 88, 178), -1.05),
    ]
    path = flight(times, yaw, pitch, roll, np.stack([walk, height, 0 * times], -1))
    return Shot("quay_walk_01", SIZE, RATE, frames, _world((0, -5.2, 0)), layers, path,
                Lens("rectilinear", 1250), Sensor(noise=1.5, seed=1))  # fmt: skip


def roofs_drone(frames: int = 256) -> Shot:
    """A drone looks slowly along the roofs, buffeted by gusts; its rows are read over three fifths of a frame."""
    times, random = _samples(frames), np.random.default_rng(202)
    gust = 0.35 + 0.65 * np.exp(-((times - 5.0) ** 2) / 1.6)
    yaw = -16 + 2.9 * times + band_noise(random, times, 0.3, 3.5, 0.55) * gust
    pitch = -7.5 + band_noise(random, times, 0.3, 4.5, 0.42) * gust
    roll = band_noise(random, times, 0.25, 3.0, 0.8) * gust
    buzz = np.random.default_rng(212)
    yaw, pitch = (angle + band_noise(buzz, times, 5.0, 8.0, 0.12) for angle in (yaw, pitch))
    path = flight(times, yaw, pitch, roll, np.tile([0.0, -34.0, -30.0], (len(times), 1)))
    return Shot("roofs_drone_02", SIZE, RATE, frames, _world((0, -34.0, -30.0)), [], path,
                Lens("rectilinear", 1120), Sensor(readout_s=0.02, noise=1.2, seed=2))  # fmt: skip


def dinghy(frames: int = 256) -> Shot:
    """From a dinghy, through a very wide lens, rocking on the swell."""
    times, random = _samples(frames), np.random.default_rng(303)
    yaw = 2 + 1.0 * times + band_noise(random, times, 0.2, 2.0, 2.0)
    pitch = 3 + 2.6 * np.sin(2 * np.pi * 0.55 * times) + band_noise(random, times, 0.8, 5.0, 0.6)
    roll = 5.5 * np.sin(2 * np.pi * 0.38 * times + 1) + band_noise(random, times, 0.8, 4.0, 0.9)
    sway = np.stack([0.4 * times, -1.6 + 0.12 * np.sin(2 * np.pi * 0.55 * times), 0 * times], -1)
    layers = [
        boat_layer(30.0, -26.0, 9.0, (96, 128, 64), 1.6, 9),
        boat_layer(16.0, 7.0, 6.5, (226, 230, 232), -1.1, 12),
    ]
    path = flight(times, yaw, pitch, roll, sway)
    return Shot("dinghy_03", SIZE, RATE, frames, _world((0, -1.6, 0)).smaller(2), layers, path,
                Lens("equidistant", 545, falloff=0.25), Sensor(noise=1.5, seed=3))  # fmt: skip


DEMO: tuple[Callable[[], Shot], ...] = (quay_walk, roofs_drone, dinghy)


def write_demo(folder: Path) -> list[Path]:
    """Write all demo clips and their truth into a folder, all at once: their stages overlap well."""
    with ProcessPoolExecutor(len(DEMO), mp_context=get_context("spawn")) as pool:
        return list(pool.map(_write, DEMO, [folder] * len(DEMO)))


def _write(make: Callable[[], Shot], folder: Path) -> Path:
    cv2.setNumThreads(1)
    return write_shot(make(), folder)


def _samples(frames: int) -> Floats:
    """Eight moments a frame, so that rows of a rolling shutter have their own."""
    return np.arange((frames + 2) * 8) / (RATE * 8)


def _world(eye: tuple[float, float, float]) -> Panorama:
    return paint_panorama(build_town(), np.array(eye))


def _hand(random: np.random.Generator, times: Floats, rms: float) -> Floats:
    return band_noise(random, times, 0.4, 7.0, rms)


def _bump(times: Floats, at: float, size: float) -> Floats:
    """One stumble: the second that decides the crop of the whole shot."""
    return size * np.exp(-((times - at) ** 2) / 0.02)
