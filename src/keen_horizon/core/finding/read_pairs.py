"""Points that a measurement followed between consecutive frames, as tables, each with the moment its row was read.

All lengths are px of the analysed picture, origin in its middle; times are frames, as long as most of a clip's are.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.finding.followed_noise import followed_noise
from keen_horizon.core.geometry.nowhere import is_nowhere_complex
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex
from keen_horizon.core.glass.shutter import row_shares
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.motion.behind_lens import FURTHEST_STRETCH
from keen_horizon.core.motion.matched import analysed_unit
from keen_horizon.core.motion.measurement import Measurement

MOST_POINTS = 60  # of a pair; all of them count, since believing by one similarity drops just the rows that bend
LEAST_POINTS = 12
LEAST_NOISE = 0.02  # px
LONGEST = 1.7  # usual frames that a pair may last, as 30 a second and 18 in one clip; beyond, frames are missing
LIKE_OTHERS = 0.05  # of a frame: clocks are written down in whole milliseconds
AT_A_TIME = 100  # pairs: their tables stay in a processor's cache
STRETCHES, STRETCH = 6, 50  # of a long range, and pairs in each
APART = 5  # frames that stretches are laid apart, more than one moment reaches


@dataclass(frozen=True)
class ReadPairs:
    """Points (E, M) of E pairs: where they are in the first frame, and in the next; the share (E, M) of the readout
    after mid-frame at which each was read; which are there, and how far each is trusted; each pair's noise (E,), px.

    A pair `began` (E,) when the middle row of its first frame was read, and `lasted` (E,) until that of the next.
    """

    began: Floats
    lasted: Floats
    source: Complex
    target: Complex
    early: Floats
    late: Floats
    there: NDArray[np.bool_]
    trust: Floats
    noise: Floats
    half_diagonal: float

    def thinned(self) -> ReadPairs:
        """Half of the points of every pair."""
        tables = ("source", "target", "early", "late", "there", "trust")
        return replace(self, **{name: getattr(self, name)[:, ::2] for name in tables})

    def parts(self) -> Iterator[ReadPairs]:
        """Some pairs at a time, for their tables are large."""
        for start in range(0, len(self.began), AT_A_TIME):
            chosen = slice(start, start + AT_A_TIME)
            names = ("began", "lasted", "source", "target", "early", "late", "there", "trust", "noise")
            yield replace(self, **{name: getattr(self, name)[chosen] for name in names})


def read_pairs(measurement: Measurement, turns: int, stage: OpticsStage | None = None) -> ReadPairs:
    """The pairs of a measurement that can be believed to show one motion, as they were filmed or seen through a lens;
    of a long range some stretches.
    """
    chosen = _spread(_good(measurement))
    apart = np.minimum(np.diff(moments(measurement)[chosen]), APART)  # what lies between says nothing
    return _pairs(measurement, turns, stage, chosen, np.r_[0.0, np.cumsum(apart)][: len(chosen)])


def straight_pairs(measurement: Measurement, turns: int, stage: OpticsStage | None) -> ReadPairs:
    """All of a measurement's good pairs, seen through a lens, at the moments of `moments`."""
    chosen = _good(measurement)
    return _pairs(measurement, turns, stage, chosen, moments(measurement)[chosen])


def moments(measurement: Measurement) -> Floats:
    """The time (N,) of a range's frames. Shots lie apart, since the one says nothing of the other; gaps are as long as
    they were, where that is less.
    """
    steps = np.where(measurement.cut, 1 + APART, np.minimum(_lasted(measurement), APART))
    return np.asarray(np.r_[0.0, np.cumsum(steps)])


def _lasted(measurement: Measurement) -> Floats:
    """How long pairs (N - 1,) lasted, in what most did."""
    seconds = np.diff(measurement.times)
    if not len(seconds):
        return seconds
    lasted = seconds / np.median(seconds)
    return np.asarray(np.where(np.abs(lasted - 1) < LIKE_OTHERS, 1.0, lasted))


def _good(measurement: Measurement) -> NDArray[np.intp]:
    counts = np.diff(measurement.evidence.starts)
    bad = measurement.cut | measurement.blind | measurement.repeated | (_lasted(measurement) > LONGEST)
    good = ~bad & (counts >= LEAST_POINTS)
    return np.flatnonzero(good) if len(measurement.evidence.moved) else np.zeros(0, np.intp)


def _pairs(
    measurement: Measurement,
    turns: int,
    stage: OpticsStage | None,
    chosen: NDArray[np.intp],
    began: Floats,
) -> ReadPairs:
    evidence, size = measurement.evidence, measurement.size
    unit = analysed_unit(size)
    counts = np.diff(evidence.starts)[chosen, None]
    place = np.arange(MOST_POINTS)
    there = place < counts
    picked = np.where(counts > MOST_POINTS, place * (counts - 1) // (MOST_POINTS - 1), place)
    table = np.where(there, evidence.starts[chosen, None] + picked, 0)
    width, height = size.width, size.height
    ends = [as_complex(points)[table] - size.centre for points in (evidence.points, evidence.moved)]
    early, late = (row_shares(points, width, height, turns) for points in ends)
    trust = np.ones(table.shape)
    if stage is not None:
        ends, trust = _straight(stage, ends, measurement.first + chosen)
    there &= trust > 0
    source, target = (np.asarray(np.where(there, points / unit, 0), np.complex128) for points in ends)
    half_diagonal = size.half_diagonal / unit
    noise = _noise(source / half_diagonal, target, there, trust)
    return ReadPairs(
        began=began,
        lasted=_lasted(measurement)[chosen],
        source=source,
        target=target,
        early=early,
        late=late,
        there=there,
        trust=trust,
        noise=noise,
        half_diagonal=half_diagonal,
    )


def _straight(stage: OpticsStage, ends: list[Complex], frame: NDArray[np.intp]) -> tuple[list[Complex], Floats]:
    """Points (E, M) of pairs that begin at `frame` (E,), on the flat straightened picture, px from its middle at the
    source's scale, and how far each is to be trusted there.
    """
    flat = [stage.on_flat(frame + end, points) for end, points in enumerate(ends)]
    beside = stage.on_flat(frame, ends[0] + 1)
    stretch = np.abs(beside - flat[0])
    seen = (stretch < FURTHEST_STRETCH) & ~is_nowhere_complex(flat[0]) & ~is_nowhere_complex(flat[1])
    return flat, np.where(seen, 1 / np.maximum(stretch, 1e-9) ** 2, 0.0)


def _spread(pairs: NDArray[np.intp]) -> NDArray[np.intp]:
    """All pairs, or of a long range some stretches of it."""
    if len(pairs) <= STRETCHES * STRETCH:
        return pairs
    starts = np.linspace(0, len(pairs) - STRETCH, STRETCHES).astype(np.intp)
    return np.asarray(pairs[(starts[:, None] + np.arange(STRETCH)).ravel()])


def _noise(source: Complex, target: Complex, there: NDArray[np.bool_], trust: Floats) -> Floats:
    """How exactly points were followed (E,), beside a map of each pair that bends as rows read in turn do."""
    x, y = source.real, source.imag
    terms = np.stack([np.ones_like(x), x, y, x * x, x * y, y * y, y**3], -1)
    return followed_noise(terms, target, there, trust, LEAST_NOISE)
