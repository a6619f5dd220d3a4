"""Tracks in windows of a second, half overlapping, within a shot: tables of where each was in a few of the frames."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.similarity import Complex, as_complex
from keen_horizon.core.motion.measurement import Measurement

LENGTH_S = 1.0
LEAST_FRAMES = 9
SAMPLES = 9
LEAST_SEEN = 0.5  # of a window's samples


@dataclass(frozen=True)
class Window:
    """`places` (T, F) of tracks `identity` (T,) in `frames` (F,), px at 640 wide, NaN where not seen; all are seen in
    frame `middle` of these. `weak` (T,) marks weak points.
    """

    frames: NDArray[np.intp]
    middle: int
    identity: NDArray[np.int32]
    places: Complex
    weak: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.identity)

    @property
    def centre(self) -> Complex:
        """Where the tracks (T,) are in the middle frame."""
        return self.places[:, self.middle]


def shots(measurement: Measurement) -> list[tuple[int, int]]:
    """First and last frame of every shot, counted from the measurement's first."""
    starts = np.r_[0, np.flatnonzero(measurement.cut) + 1]
    return [(int(a), int(b)) for a, b in zip(starts, np.r_[starts[1:] - 1, len(measurement) - 1], strict=True)]


def windows(measurement: Measurement, shot: tuple[int, int], unit: float) -> Iterator[Window]:
    """The windows of a shot in order; `unit` display px make a px of the analysis."""
    first, last = shot
    length = min(last - first + 1, max(LEAST_FRAMES, round(LENGTH_S * measurement.rate)))
    if length < 2:
        return
    many = max(1, -(-(last - first + 1 - length) * 2 // length) + 1)
    for start in np.linspace(first, last + 1 - length, many).round().astype(int):
        yield _window(measurement, int(start), int(start) + length - 1, unit)


def _window(measurement: Measurement, start: int, end: int, unit: float) -> Window:
    frames = np.unique(np.linspace(start, end, SAMPLES).round().astype(np.intp))
    middle = len(frames) // 2
    evidence = measurement.evidence
    rows = [_rows(evidence.starts, int(frame), end) for frame in frames]
    numbers = [evidence.identity[table] for table, _ in rows]
    identity = np.unique(numbers[middle])
    places = np.full((len(identity), len(frames)), np.nan + 0j)
    weak = np.zeros(len(identity), np.bool_)
    for column, ((table, late), number) in enumerate(zip(rows, numbers, strict=True)):
        points = (evidence.moved if late else evidence.points)[table]
        at = np.minimum(np.searchsorted(identity, number), max(0, len(identity) - 1))
        known = identity[at] == number if len(identity) else np.zeros(len(number), np.bool_)
        places[at[known], column] = as_complex(points[known]) / unit
        weak[at[known]] = evidence.weak[table][known]
    often = np.isfinite(places.real).mean(1) >= LEAST_SEEN
    return Window(frames, middle, identity[often], places[often], weak[often])


def _rows(starts: NDArray[np.int64], frame: int, end: int) -> tuple[slice, bool]:
    """The rows of tracks that are in a frame, of the pair that begins with it or, for the window's `end`, ends with it:
    whether it ends so.
    """
    pair = min(frame, end - 1)
    return slice(int(starts[pair]), int(starts[pair + 1])), pair < frame
