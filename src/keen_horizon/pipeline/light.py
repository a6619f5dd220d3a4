"""What frames all over a range show of fall-off and dead edge, at places where its motion says they are."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.dead import FoundDead, ever_bright, found_dead
from keen_horizon.core.finding.falloff import FoundFalloff, Samples, measured_falloff
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import as_complex
from keen_horizon.core.media.colour import code_range
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.transfer import linear, power_law
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.pipeline.chosen import spread_over_shot

Floats = NDArray[np.float64]

FRAMES = 64  # at most, all over the range
CELLS = 240  # across the frame: 8 px of 1080p each
PLACES = 60  # across the frame
LEAST_CELL = 4.0  # px
DEAD_CELLS = 480  # across the frame, where a dead edge is looked for
USUAL_TRANSFER = 1  # PQ and HLG are read as this one: no power law tells their light


class LightLook:
    """How light falls off, and where none arrives."""

    def __init__(self, measurement: Measurement) -> None:
        self.wanted = spread_over_shot(measurement, FRAMES)
        self._measurement = measurement
        self._places = _places(measurement, self.wanted)
        self._taken: list[Samples] = []
        self._cells: list[NDArray[np.float32]] = []
        self._transfer = USUAL_TRANSFER

    def see(self, index: int, frame: Frame) -> None:
        """Take what a frame shows of the places, and its light."""
        self._transfer = frame.tags.transfer
        self._taken.append(_samples(frame, self._measurement, self._places, index))
        self._cells.append(coded_cells(frame, self._measurement.size, DEAD_CELLS))

    def found(self) -> FoundFalloff:
        """What the frames told."""
        columns = zip(*(_columns(each) for each in self._taken), strict=True)
        together = Samples(*(np.concatenate(column) for column in columns))
        known = self._transfer if power_law(self._transfer) else USUAL_TRANSFER
        law = power_law(known)
        assert law is not None
        bright = ever_bright(np.stack(self._cells))
        dead = found_dead(bright, linear(bright, known))
        if dead is not None:
            together = together.only(dead.clear(together.x + 1j * together.y))
        return measured_falloff(together, law, self._measurement.size.width / self._measurement.size.height, dead)


def told_falloff(name: str, found: FoundFalloff) -> str:
    """What there is to say of a measured fall-off of the clip `name`. Raises LensError where it does not tell."""
    if not found.enough:
        raise LensError(
            f"{name}: it does not tell how light falls off: too few places were seen both near the middle and near the "
            "corners. Film a slow pan with the same glass, or set the fall-off by hand."
        )
    names = ("c1", "c2", "c3", "centre_x", "centre_y")
    told = ", ".join(f"{figure} ± {error:.3f}" for figure, error in zip(names, found.errors, strict=True))
    corner = 1 + sum(found.falloff.coefficients)
    return f"{100 * corner:.0f} % of the light arrives at the corners, ± {100 * found.doubt:.1f} %: {told}."


def told_dead(found: FoundDead) -> str:
    """What there is to say of a dead edge."""
    edge = found.edge
    parts = [] if edge.radius is None else [f"beyond a circle of {edge.radius:.4f} half-diagonals"]
    parts += [f"beyond a straight edge {far:.4f} away at {np.degrees(way):.1f} degrees" for way, far in edge.sides]
    return f"No light arrives {' and '.join(parts)}, ± {found.doubt:.4f}; it fades over {edge.softness:.4f}."


def _columns(samples: Samples) -> tuple[NDArray[np.generic], ...]:
    return samples.place, samples.frame, samples.value, samples.slope, samples.x, samples.y


def _places(measurement: Measurement, frames: NDArray[np.intp]) -> NDArray[np.complex128]:
    """A grid over all that frames saw, in the reference picture, px."""
    corners = measurement.poses[frames].apply(as_complex(measurement.size.corners()))
    step = measurement.size.width / PLACES
    x = np.arange(corners.real.min(), corners.real.max(), step)
    y = np.arange(corners.imag.min(), corners.imag.max(), step)
    return np.asarray((x[None] + 1j * y[:, None]).ravel())


def coded_cells(frame: Frame, size: Size, across: int) -> NDArray[np.float32]:
    """Means of luma, shares of its range, over so many cells across the frame."""
    side = max(LEAST_CELL, size.width / across)
    black, span, _ = code_range(frame.bit_depth, frame.tags)
    cells = (round(size.width / side), round(size.height / side))
    means = cv2.resize(frame.luma.astype(np.float32), cells, interpolation=cv2.INTER_AREA)
    return (means - np.float32(black)) / np.float32(span)


def _samples(frame: Frame, measurement: Measurement, places: NDArray[np.complex128], index: int) -> Samples:
    """What a frame shows of the places."""
    size = measurement.size
    means = coded_cells(frame, size, CELLS)
    cells = means.shape[::-1]
    across, down = cv2.Sobel(means, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(means, cv2.CV_32F, 0, 1, scale=1 / 8)
    pose = measurement.poses[np.array([frame.number - measurement.first])]
    seen = pose.inverse().apply(places)[0]
    column = (seen.real + 0.5) * cells[0] / size.width - 0.5
    row = (seen.imag + 0.5) * cells[1] / size.height - 0.5
    inside = np.flatnonzero((column > 1) & (row > 1) & (column < cells[0] - 2) & (row < cells[1] - 2))
    maps = column[inside].astype(np.float32)[None], row[inside].astype(np.float32)[None]
    value, slope = (
        cv2.remap(picture, *maps, interpolation=cv2.INTER_LINEAR)[0].astype(np.float64)
        for picture in (means, cv2.magnitude(across, down))
    )
    offset = (seen[inside] - size.centre) / size.half_diagonal
    return Samples(inside, np.full(len(inside), index), value, slope, offset.real, offset.imag)
