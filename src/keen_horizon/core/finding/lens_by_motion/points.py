"""The points that a measurement followed, as tables: what a lens is found by.

Of a long clip the stretch is taken over which the camera turned furthest: its frames follow each other without a gap,
as undoing the rows' moments needs it.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.finding.followed_noise import followed_noise
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex
from keen_horizon.core.glass.shutter import row_shares
from keen_horizon.core.motion.matched import analysed_unit
from keen_horizon.core.motion.measurement import Measurement

STRETCH = 150  # pairs: six seconds show the things of a scene at all the radii that they pass
MOST_MATCHES = 110  # further apart than a frame
MOST_POINTS = 60  # of a match
LEAST_POINTS = 12
LEAST_PAIRS = 24
LEAST_NOISE = 0.02  # px of the analysed picture


@dataclass(frozen=True)
class TurnedPoints:
    """Points (E, M) of E matches between `frames` (E, 2), the first `pairs` of them between frames that follow.

    `source` and `target` are offsets from the frame's middle, half-diagonals; `early` and `late` the shares of the
    readout after mid-frame at which they were read; `there` marks real ones, `track` (E, M) says which of so many
    `tracks` each belongs to; `noise` (E,) is how exactly they were followed, half-diagonals.
    """

    frames: NDArray[np.intp]
    pairs: int
    source: Complex
    target: Complex
    early: Floats
    late: Floats
    there: NDArray[np.bool_]
    track: NDArray[np.intp]
    tracks: int
    noise: Floats

    @property
    def gaps(self) -> Floats:
        """How many frames lie between both ends (E,)."""
        return np.asarray(self.frames[:, 1] - self.frames[:, 0], np.float64)

    def part(self, rows: NDArray[np.intp], every: int = 1) -> TurnedPoints:
        """Some matches, in their order, with every so many of their points."""
        return TurnedPoints(
            frames=self.frames[rows],
            pairs=int((rows < self.pairs).sum()),
            source=self.source[rows, ::every],
            target=self.target[rows, ::every],
            early=self.early[rows, ::every],
            late=self.late[rows, ::every],
            there=self.there[rows, ::every],
            track=self.track[rows, ::every],
            tracks=self.tracks,
            noise=self.noise[rows],
        )


def turned_points(measurement: Measurement) -> TurnedPoints | None:
    """The points of the stretch in which the camera turned most; None where too few were followed."""
    evidence, matches, size = measurement.evidence, measurement.evidence.matches, measurement.size
    if not len(evidence.moved) or not len(evidence.identity):
        return None
    start, stop = _stretch(measurement)
    followed = ~(measurement.cut | measurement.blind | measurement.repeated)
    enough = np.diff(evidence.starts) >= LEAST_POINTS
    pairs = start + np.flatnonzero((followed & enough)[start:stop])
    if len(pairs) < LEAST_PAIRS:
        return None
    inside = ((matches.frames >= start) & (matches.frames <= stop)).all(1)
    apart = spread_over(np.flatnonzero(inside & (np.diff(matches.starts) >= LEAST_POINTS)), MOST_MATCHES)
    near = _tables(evidence.starts, pairs, (as_complex(evidence.points), as_complex(evidence.moved), evidence.identity))
    far = _tables(matches.starts, apart, (as_complex(matches.points), as_complex(matches.moved), matches.identity))
    points, moved, identity, there = (np.concatenate(both) for both in zip(near, far, strict=True))
    source, target = (np.where(there, end - size.centre, 0) for end in (points, moved))
    early, late = (row_shares(end, size.width, size.height, measurement.readout.turns) for end in (source, target))
    source, target = (np.asarray(end / size.half_diagonal, np.complex128) for end in (source, target))
    things, track = np.unique(identity, return_inverse=True)
    return TurnedPoints(
        frames=np.concatenate([np.stack([pairs, pairs + 1], -1), matches.frames[apart]]).astype(np.intp) - start,
        pairs=len(pairs),
        source=source,
        target=target,
        early=early,
        late=late,
        there=there,
        track=track.reshape(there.shape),
        tracks=len(things),
        noise=_noise(source, target, there, size),
    )


def sweep(measurement: Measurement) -> float:
    """How far the picture's middle moves, half-diagonals, over the stretch in which it moves furthest."""
    start, stop = _stretch(measurement)
    seen = measurement.poses.about(measurement.size.centre).t[start : stop + 1]
    return _wide(seen) / measurement.size.half_diagonal


def _wide(places: Complex) -> float:
    return float(np.ptp(places.real) + np.ptp(places.imag))


def _stretch(measurement: Measurement) -> tuple[int, int]:
    """The first and the last frame of the stretch of one shot over which the picture's middle moved furthest."""
    shots = np.flatnonzero(np.r_[True, measurement.cut, True]).tolist()
    middle = measurement.poses.about(measurement.size.centre).t
    best, furthest = (0, 0), -1.0
    for first, following in pairwise(shots):
        for start in range(first, max(first + 1, following - STRETCH), STRETCH // 8):
            stop = min(start + STRETCH, following - 1)
            wide = _wide(middle[start : stop + 1])
            if wide > furthest:
                best, furthest = (start, stop), wide
    return best


def spread_over(chosen: NDArray[np.intp], most: int) -> NDArray[np.intp]:
    """At most so many, evenly."""
    if len(chosen) <= most:
        return chosen
    return np.asarray(chosen[np.linspace(0, len(chosen) - 1, most).round().astype(np.intp)])


def _tables(
    starts: NDArray[np.int64], chosen: NDArray[np.intp], columns: tuple[NDArray[Any], ...]
) -> tuple[NDArray[Any], ...]:
    """The columns' rows of some matches, a match a line, MOST_POINTS at most; and which of these are there."""
    table = np.zeros((len(chosen), MOST_POINTS), np.intp)
    there = np.zeros(table.shape, np.bool_)
    for line, match in enumerate(chosen):
        rows = spread_over(np.arange(starts[match], starts[match + 1], dtype=np.intp), MOST_POINTS)
        table[line, : len(rows)] = rows
        there[line, : len(rows)] = True
    if not len(chosen):
        return (*(column[:0].reshape(0, MOST_POINTS) for column in columns), there)
    return (*(column[table] for column in columns), there)


def _noise(source: Complex, target: Complex, there: NDArray[np.bool_], size: Size) -> Floats:
    """How exactly points were followed (E,), half-diagonals, beside a cubic map of each match, as bent as a lens."""
    x, y = source.real, source.imag
    terms = np.stack([x**i * y**j for i in range(4) for j in range(4 - i)], -1)
    least = LEAST_NOISE * analysed_unit(size) / size.half_diagonal
    counts = there.sum(1)
    taken = np.sqrt(counts / np.maximum(counts - terms.shape[-1], 1))  # by the map itself
    return np.asarray(followed_noise(terms, target, there, np.ones(there.shape), least) * taken)
