"""The simulated camera: how it moves, and what its lens and sensor do to the picture."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation, Slerp

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Lens:
    """Centred radial lens: `focal_px`, corner `falloff` (gain lost at the corner), `fringe_px` there."""

    model: Literal["rectilinear", "equidistant"]
    focal_px: float
    falloff: float = 0.0
    fringe_px: float = 0.0

    def rays(self, offsets: Floats) -> Floats:
        """Unit directions (..., 3) of pixel offsets (..., 2) from the centre."""
        radius = np.hypot(offsets[..., 0], offsets[..., 1])
        angle = np.arctan(radius / self.focal_px) if self.model == "rectilinear" else radius / self.focal_px
        share = np.sin(angle) / np.maximum(radius, 1e-12)
        share = np.where(radius < 1e-9, 1 / self.focal_px, share)
        return np.stack([offsets[..., 0] * share, offsets[..., 1] * share, np.cos(angle)], -1)


@dataclass(frozen=True)
class Sensor:
    """`readout_s` is the time from the first row to the last; `exposure_s` blurs; `noise` is in 8-bit steps."""

    readout_s: float = 0.0
    exposure_s: float = 0.0
    noise: float = 1.5
    seed: int = 1


@dataclass(frozen=True)
class Flight:
    """Where the camera is: rotations world_from_camera and positions (N, 3) in metres at `times` (N,)."""

    times: Floats
    rotations: Rotation
    positions: Floats

    def rotation_at(self, times: Floats) -> Rotation:
        """World_from_camera between the samples."""
        return Slerp(self.times, self.rotations)(np.clip(times, self.times[0], self.times[-1]))

    def position_at(self, time: float) -> Floats:
        """Position (3,) between the samples."""
        return np.array([np.interp(time, self.times, self.positions[:, axis]) for axis in range(3)])

    def to_json(self, frames: int, rate: float) -> list[dict[str, Any]]:
        """The truth per frame: rotation as a unit quaternion x, y, z, w, and position."""
        when = np.arange(frames) / rate
        turned = self.rotation_at(when).as_quat()
        return [
            {
                "frame": i,
                "time": float(when[i]),
                "world_from_camera_xyzw": turned[i].round(9).tolist(),
                "position_m": self.position_at(float(when[i])).round(6).tolist(),
            }
            for i in range(frames)
        ]


def band_noise(random: np.random.Generator, times: Floats, low_hz: float, high_hz: float, rms: float) -> Floats:
    """Smooth random motion (N,) with power between two frequencies, evenly sampled at `times`."""
    count = len(times)
    frequency = np.fft.rfftfreq(count, float(times[1] - times[0]))
    spectrum = random.standard_normal(len(frequency)) + 1j * random.standard_normal(len(frequency))
    spectrum = np.where((frequency >= low_hz) & (frequency <= high_hz), spectrum / np.maximum(frequency, 0.2), 0)
    signal = np.fft.irfft(spectrum, count)
    return np.asarray(rms * signal / max(1e-12, float(signal.std())))


def flight(times: Floats, yaw_deg: Floats, pitch_deg: Floats, roll_deg: Floats, positions: Floats) -> Flight:
    """A flight from angles: yaw to the right, pitch up, roll clockwise as the camera sees it."""
    angles = np.stack([yaw_deg, pitch_deg, roll_deg], -1)
    return Flight(times, Rotation.from_euler("YXZ", angles, degrees=True), positions)
