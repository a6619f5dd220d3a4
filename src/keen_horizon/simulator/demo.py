"""The demo project "Port Merrow": clips for a film of its boat week, made by the simulator."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.simulator.camera import Lens, Sensor, band_noise, flight
from keen_horizon.simulator.film import Shot, write_shot
from keen_horizon.simulator.layers import boat_layer, railing_layer, walker_layer
from keen_horizon.simulator.light import Glass
from keen_horizon.simulator.panorama import Panorama, paint_panorama
from keen_horizon.simulator.sphere import SphereShot, write_around
from keen_horizon.simulator.town import Patch, Thing, build_town

Floats = NDArray[np.float64]

SIZE, AROUND = Size(1280, 720), Size(1920, 960)
RATE = 30
HEADLAND = Thing(
    [
        Patch(
            np.array([(60, 2, 170), (60, -36, 170), (120, -31, 170), (190, -14, 170), (260, 2, 170)], float),
            (86, 128, 104),
        )
    ],
    205.0,
)  # behind the last houses, where a long lens would see between the terraces they stand on


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


def lighthouse(frames: int = 160) -> Shot:
    """The lighthouse, through long, cheap glass: colours split, corners darken, a slanting hood eats them."""
    times, random = _samples(frames), np.random.default_rng(404)
    yaw = 50 + 14 * np.sin(2 * np.pi * times / 4.1) + _hand(random, times, 0.12)
    pitch = 2.5 + 9 * np.cos(2 * np.pi * times / 2.3) + _hand(random, times, 0.1)
    path = flight(times, yaw, pitch, _hand(random, times, 0.25), np.tile([0.0, -5.2, 0.0], (len(times), 1)))
    glass = Glass(
        Falloff((-0.45, 0.06), 0.02 - 0.01j),
        Fringe((0.0024, 0.0), (-0.0021, 0.0)),
        DeadEdge(0.91, 0.03 - 0.02j, softness=0.04),
    )
    things = sorted([*build_town(), HEADLAND], key=lambda thing: -thing.distance)
    world = paint_panorama(things, np.array([0, -5.2, 0]))
    return Shot("lighthouse_04", SIZE, RATE, frames, world, [], path,
                Lens("rectilinear", 1900), Sensor(noise=0.4, seed=4), glass)  # fmt: skip


def mast(frames: int = 160) -> SphereShot:
    """All around from the mast of a boat that rocks on the swell and swings round in the harbour."""
    times, random = np.arange(frames) / RATE, np.random.default_rng(505)
    yaw = -20 + 5 * times + band_noise(random, times, 0.2, 1.5, 2.0)
    pitch = 4 * np.sin(2 * np.pi * 0.6 * times) + band_noise(random, times, 0.8, 5.0, 0.6)
    roll = 9 * np.sin(2 * np.pi * 0.42 * times + 1) + band_noise(random, times, 0.8, 4.0, 0.8)
    rotations = Rotation.from_euler("YXZ", np.stack([yaw, pitch, roll], -1), degrees=True)
    return SphereShot("mast_05", AROUND, RATE, _world((0, -7.5, 0)), 3, rotations, 5)


DEMO: tuple[Callable[[], Shot | SphereShot], ...] = (quay_walk, roofs_drone, dinghy, lighthouse, mast)


def write_demo(folder: Path) -> list[Path]:
    """Write all demo clips and their truth into a folder, all at once: their stages overlap well."""
    with ProcessPoolExecutor(len(DEMO), mp_context=get_context("spawn")) as pool:
        return list(pool.map(_write, DEMO, [folder] * len(DEMO)))


def _write(make: Callable[[], Shot | SphereShot], folder: Path) -> Path:
    cv2.setNumThreads(1)
    shot = make()
    return write_around(shot, folder) if isinstance(shot, SphereShot) else write_shot(shot, folder)


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
