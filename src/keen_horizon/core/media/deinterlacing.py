"""Whole pictures of fields: a moment's missing lines, from its own lines and from its neighbours'.

Moved as one picture, a frame's two fields come apart into combs; so each field is made a picture of its own first. What
changes slowly from line to line is taken from the field's own lines, what changes quickly from the fields before and
after, which keep the missing lines (Martin Weston's three-field filter, with BBC R&D's coefficients as in FFmpeg's
w3fdif, "complex"). On a shaken film those fields lie elsewhere, so each is laid back first by as far as the picture
moved between the two: along lines exactly, across them by whole lines, since a field lacks what lies between. Filters
that do not do so leave up to twice the fine detail as combs on a film of new shake every field, and are wrong by up to
twice as much (see `benchmarks/README.md`).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import chain
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.media.fields import Picture, motion_between, small_field
from keen_horizon.core.media.footage import Reading
from keen_horizon.core.media.stored import Plane, Stored

OWN = np.array([-852, 17236, 17236, -852], np.float32) / np.float32(2**15)  # of a field's lines around a missing one
OTHERS = np.array([1016, -3801, 5570, -3801, 1016], np.float32) / np.float32(2**14)  # of the neighbours' mean there
LEAST_WEIGHT = 0.05  # of a neighbour that shows only lines which are there, where the other one is no better


@dataclass(frozen=True)
class _Field:
    """One field of a stored picture: every other line from `parity` on, shown at `time` (s).

    `moved` is how far (x, y) the picture lies from where it lay in the field before, in luma px; None where the two
    show different things.
    """

    picture: Stored
    parity: int
    time: Fraction | None
    small: Picture
    moved: tuple[float, float] | None = None

    def lines(self, plane: int) -> Plane:
        """The field's lines of one of the picture's planes."""
        return self.picture.all_planes[plane][self.parity :: 2]


@dataclass(frozen=True)
class _Neighbour:
    """A field beside another one, and how far (x, y) its picture lies from that one's, in luma px."""

    field: _Field
    across: float
    down: float

    @property
    def weight(self) -> float:
        """How well its lines, laid back by whole lines, show those that the other field lacks: the power that detail
        from line to line has in common with them.
        """
        lines = self.down / 2
        return max(LEAST_WEIGHT, float(np.cos(np.pi * (lines - round(lines)))) ** 2)

    def laid_back(self, plane: int) -> Picture:
        """Its lines of one plane where the other field's picture lies, but for a part of a line."""
        height, width = self.field.picture.planes[0].shape
        rows, columns = self.field.picture.all_planes[plane].shape
        down = round(self.down / 2 * rows / height)
        across = self.across * columns / width
        lines = _along_rows(self.field.lines(plane), across - round(across))
        return _shifted(lines, round(across), down)


def whole_pictures(stored: Iterable[Stored], reading: Reading) -> Iterator[Stored]:
    """Stored pictures with their fields made pictures, as `reading` asks: one a field, or one of a frame's first."""
    if reading.first_field is None:
        yield from stored
        return
    before: _Field | None = None
    current: _Field | None = None
    parities = (0, 1) if reading.first_field == "top" else (1, 0)
    for after in chain(_fields(stored, parities), [None]):
        if current is not None and (reading.every_field or current.parity == parities[0]):
            yield _whole(before, current, after)
        before, current = current, after


def _fields(stored: Iterable[Stored], parities: tuple[int, int]) -> Iterator[_Field]:
    """Every picture's fields as they are shown, the second one halfway to the next picture."""
    last: _Field | None = None
    for picture, halfway in _with_half_ways(stored):
        for parity, time in zip(parities, (picture.time, halfway), strict=True):
            field = _Field(picture, parity, time, small_field(picture.planes[0], parity))
            last = field if last is None else replace(field, moved=_moved(last, field))
            yield last


def _with_half_ways(stored: Iterable[Stored]) -> Iterator[tuple[Stored, Fraction | None]]:
    """Pictures, each with the moment halfway to the next; the last one lasts as long as the one before."""
    step: Fraction | None = None
    last: Stored | None = None
    for picture in stored:
        if last is not None:
            if picture.time is not None and last.time is not None:
                step = picture.time - last.time
            yield last, _halfway(last, step)
        last = picture
    if last is not None:
        yield last, _halfway(last, step)


def _halfway(picture: Stored, step: Fraction | None) -> Fraction | None:
    return None if picture.time is None or step is None else picture.time + step / 2


def _moved(one: _Field, other: _Field) -> tuple[float, float] | None:
    shift = motion_between(one.small, other.small)
    if shift is None or one.small.shape != other.small.shape:
        return None
    scale = one.picture.planes[0].shape[1] / one.small.shape[1]
    across, down = shift * scale
    return float(across), float(down) + other.parity - one.parity


def _whole(before: _Field | None, current: _Field, after: _Field | None) -> Stored:
    """The field's own lines, and between them those that it lacks."""
    neighbours = []
    if before and current.moved:
        neighbours.append(_Neighbour(before, -current.moved[0], -current.moved[1]))
    if after and after.moved:
        neighbours.append(_Neighbour(after, *after.moved))
    planes = [_filled(current, plane, neighbours) for plane in range(len(current.picture.all_planes))]
    alpha = planes[3] if len(planes) > 3 else None
    return replace(current.picture, planes=tuple(planes[:3]), alpha=alpha, time=current.time)


def _filled(field: _Field, plane: int, neighbours: list[_Neighbour]) -> Plane:
    """One plane with the lines that the field lacks."""
    whole = np.array(field.picture.all_planes[plane])
    missing = whole[1 - field.parity :: 2]
    own = field.lines(plane)
    if len(own) < len(missing):
        own = cv2.copyMakeBorder(own, 0, 1, 0, 0, cv2.BORDER_REPLICATE)
    slow = _along_columns(own, OWN, 1 + field.parity)[: len(missing)]
    quick = _along_columns(_mean(plane, neighbours), OTHERS, 2) if neighbours else np.zeros_like(slow)
    lines = cv2.add(slow, quick, dtype=cv2.CV_8U if whole.dtype == np.uint8 else cv2.CV_16U)  # rounded, within bounds
    missing[:] = np.minimum(lines, (1 << field.picture.depth) - 1)
    return whole


def _mean(plane: int, neighbours: list[_Neighbour]) -> NDArray[Any]:
    """The neighbours' lines of a plane, laid back, each as much as it tells."""
    lines = [neighbour.laid_back(plane) for neighbour in neighbours]
    if len(lines) == 1:
        return lines[0]
    share = neighbours[0].weight / (neighbours[0].weight + neighbours[1].weight)
    mean: Picture = cv2.addWeighted(lines[0], share, lines[1], 1 - share, 0, dtype=cv2.CV_32F)
    return mean


def _along_columns(lines: NDArray[Any], taps: NDArray[np.float32], above: int) -> Picture:
    """Each line replaced by a weighted sum of those from `above` lines above it on."""
    summed: Picture = cv2.sepFilter2D(
        lines, cv2.CV_32F, np.ones(1, np.float32), taps, anchor=(0, above), borderType=cv2.BORDER_REPLICATE
    )
    return summed


def _along_rows(lines: Plane, part: float) -> Picture:
    """What lies a `part` of a sample, -0.5 ... 0.5, to the right of each: a sinc of nine samples in a Hann window."""
    away = np.arange(-4, 5) - part
    taps = (np.sinc(away) * np.cos(np.pi * away / 9.5) ** 2).astype(np.float32)
    shifted: Picture = cv2.sepFilter2D(
        lines, cv2.CV_32F, taps / taps.sum(), np.ones(1, np.float32), borderType=cv2.BORDER_REPLICATE
    )
    return shifted


def _shifted(lines: Picture, across: int, down: int) -> Picture:
    """What lies `across` samples to the right and `down` lines below each sample; at the border, its last one."""
    height, width = lines.shape
    rows, columns = abs(down), abs(across)
    wider = cv2.copyMakeBorder(lines, rows, rows, columns, columns, cv2.BORDER_REPLICATE)
    top, left = rows + down, columns + across
    shifted: Picture = wider[top : top + height, left : left + width]
    return shifted
