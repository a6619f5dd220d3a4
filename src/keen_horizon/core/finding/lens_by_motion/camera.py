"""A camera that turns behind a lens while its rows are read, and perhaps walks: what is looked for.

A point r half-diagonals from the lens's centre is seen at the angle a(r) from the axis: tan a = r / (f D(r)), D as in
`cameras.families`. Between two frames a turning camera moves all rays by one rotation; one that walks moves each as
well by its travel over the depth of what is seen.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.geometry.similarity import Complex, Floats
from keen_horizon.core.glass.shutter import FURTHEST
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.plumb_lines import CENTRE_SPREAD
from keen_horizon.core.lens.stage import USUAL_FOCAL

RADII = np.linspace(0, 1.6, 1024)  # half-diagonals: past the corners of a frame whose lens sits aside
USUAL_LOG_FOCAL, LOG_FOCAL_SPREAD = float(np.log(USUAL_FOCAL)), 0.7  # 80 degrees, between 44 and 119
READOUT_SPREAD = 0.7  # frames
TRAVEL_SPREAD = 0.003  # a frame, of the depth: a walk of 1.4 m/s, 25 frames a second, 19 m before what is seen
LOG_FOCALS = float(np.log(0.25)), float(np.log(10.0))
FISHEYES = 0.01, 4.0  # w: beyond, the picture holds more than the whole sphere
LEAST_SLOPE = 1e-2  # radians a half-diagonal: behind a lens of a hundred half-diagonals nothing is told anyway


@dataclass(frozen=True, kw_only=True)
class TurningCamera:
    """A lens's `family`, coefficients `k` and `centre`; the logarithm of its focal length, half-diagonals, for which a
    fisheye's first coefficient stands; the `readout`, frames; and the `travel` (3,) a frame over the usual depth, in
    the camera's own axes.
    """

    family: str
    k: Floats
    centre: complex = 0j
    log_focal: float = USUAL_LOG_FOCAL
    readout: float = 0.0
    travel: Floats

    @staticmethod
    def standing(family: str, k: Floats, focal: float) -> TurningCamera:
        """One that does not walk."""
        return TurningCamera(family=family, k=k, log_focal=float(np.log(focal)), travel=np.zeros(3))

    @property
    def angular(self) -> bool:
        """Whether the first coefficient is the focal length."""
        return FAMILIES[self.family].angular

    @property
    def focal(self) -> float:
        """Half-diagonals."""
        return float(self.k[0] ** -0.5 if self.angular else np.exp(self.log_focal))

    @property
    def lens(self) -> Lens:
        """The lens."""
        return Lens(self.family, tuple(float(figure) for figure in self.k), self.centre)

    @cached_property
    def angles(self) -> Floats:
        """The angle from the axis, radians, at each of RADII."""
        depth = FAMILIES[self.family].depth(RADII, self.k)
        return np.arctan2(RADII, depth * self.focal)

    @cached_property
    def slopes(self) -> Floats:
        """How fast the angle grows over the radius, at each of RADII."""
        return np.asarray(np.gradient(self.angles, RADII))

    @property
    def shape(self) -> int:
        """How many figures are the lens's own: its coefficients and its centre."""
        return len(self.k) + 2

    @property
    def figures(self) -> Floats:
        """What is looked for: coefficients, centre, focal length unless the first of them tells it, readout, travel."""
        focal = [] if self.angular else [self.log_focal]
        return np.array([*self.k, self.centre.real, self.centre.imag, *focal, self.readout, *self.travel])

    @property
    def usual(self) -> tuple[Floats, Floats]:
        """What the figures usually are, and by how much they differ from it."""
        spreads = FAMILIES[self.family].spreads[: len(self.k)]
        focal = ([], []) if self.angular else ([USUAL_LOG_FOCAL], [LOG_FOCAL_SPREAD])
        usual = [*np.zeros(self.shape), *focal[0], 0.0, *np.zeros(3)]
        spread = [*spreads, CENTRE_SPREAD, CENTRE_SPREAD, *focal[1], READOUT_SPREAD, *np.full(3, TRAVEL_SPREAD)]
        return np.array(usual), np.array(spread)

    def moved(self, change: Floats) -> TurningCamera:
        """The camera whose figures differ by so much, as far as there are such cameras."""
        k, (right, down) = self.k + change[: len(self.k)], change[len(self.k) : self.shape]
        rest = change[self.shape :]
        log_focal = self.log_focal
        if self.angular:
            k[0] = np.clip(k[0], *FISHEYES)
        else:
            log_focal, rest = float(np.clip(log_focal + rest[0], *LOG_FOCALS)), rest[1:]
        return replace(
            self,
            k=k,
            centre=self.centre + complex(right, down),
            log_focal=log_focal,
            readout=float(np.clip(self.readout + rest[0], -FURTHEST, FURTHEST)),
            travel=self.travel + rest[1:],
        )

    def seen(self, places: Complex) -> Seen:
        """The rays of places, offsets from the frame's middle in half-diagonals, any shape."""
        offsets = places - self.centre
        radius = np.abs(offsets)
        return Seen(self, offsets, radius, looked_up(self.angles, radius))


@dataclass(frozen=True)
class Seen:
    """Places' `offsets` from a camera's centre, their `radius` and the `angle` from the axis they are seen at."""

    camera: TurningCamera
    offsets: Complex
    radius: Floats
    angle: Floats

    @cached_property
    def rays(self) -> Floats:
        """Unit rays (..., 3), x to the right, y down, z ahead."""
        aside = np.sin(self.angle) / np.maximum(self.radius, 1e-9)
        return np.stack([self.offsets.real * aside, self.offsets.imag * aside, np.cos(self.angle)], -1)

    def on_picture(self, across: Floats) -> Complex:
        """Small differences (..., 3) of the rays as differences of places, half-diagonals.

        Outward by d angle / d radius, around by sin(angle) / radius: the lens need not be undone for it.
        """
        unit = self.offsets / np.maximum(self.radius, 1e-9)
        inward = (across[..., 0] * unit.real + across[..., 1] * unit.imag) * np.cos(self.angle)
        outward = inward - across[..., 2] * np.sin(self.angle)
        around = across[..., 1] * unit.real - across[..., 0] * unit.imag
        steep = np.maximum(looked_up(self.camera.slopes, self.radius), LEAST_SLOPE)
        wide = np.where(self.radius > 1e-6, np.sin(self.angle) / np.maximum(self.radius, 1e-9), steep)
        return np.asarray(outward / steep + 1j * around / np.maximum(wide, LEAST_SLOPE))


def looked_up(table: Floats, radius: Floats) -> Floats:
    """What a table over RADII says of radii, any shape; beyond its end what it says there."""
    place = np.minimum(radius * ((len(RADII) - 1) / RADII[-1]), len(RADII) - 1.001)
    index = place.astype(np.intp)
    here = table[index]
    return np.asarray(here + (place - index) * (table[index + 1] - here))


def crossed(turn: Floats, rays: Floats) -> Floats:
    """turn x rays, (..., 3) both."""
    a, b, c = np.moveaxis(turn, -1, 0)
    x, y, z = np.moveaxis(rays, -1, 0)
    return np.stack([b * z - c * y, c * x - a * z, a * y - b * x], -1)


def swung(turn: Floats, rays: Floats) -> Floats:
    """Rays (..., 3) turned by small rotation vectors (..., 3), to second order."""
    once = crossed(turn, rays)
    return np.asarray(rays + once + crossed(turn, once) / 2)


def turned(matrices: Floats, rays: Floats) -> Floats:
    """Rays (E, M, 3) turned by matrices (E, 3, 3)."""
    return np.asarray(rays @ np.swapaxes(matrices, 1, 2))


def beside(direction: Floats, rays: Floats) -> Floats:
    """The part of directions (..., 3) square to unit rays (..., 3)."""
    return np.asarray(direction - rays * (direction * rays).sum(-1, keepdims=True))
