"""A sphere's measurement as an editor wants it believed: without what lies in ignored areas."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.motion.belief.areas import IgnoredMasks, ignored_rows
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement, Uprights
from keen_horizon.core.motion.robust import MINIMUM_INLIERS
from keen_horizon.core.treatment.believing import Area

MOSTLY = 0.5  # of a pair's or a match's points


def believed_around(measurement: Measurement, areas: tuple[Area, ...]) -> Measurement:
    """The measurement of a sphere without the points and edges that areas hold; as it is where there are none."""
    if not areas or len(measurement) < 2:
        return measurement
    ignored = ignored_rows(measurement, areas)
    evidence = _without(measurement.evidence, ignored)
    few = np.diff(evidence.starts) < MINIMUM_INLIERS
    return replace(
        measurement,
        evidence=evidence,
        uprights=_seen_uprights(measurement, areas),
        blind=measurement.blind | (few & ~measurement.cut),
    )


def _without(evidence: Evidence, ignored: NDArray[np.bool_]) -> Evidence:
    """The evidence without rows (M + K,) of its points, then of its matches.

    Where most of what is left of a pair was not believed, it is weighed anew. A match's points are those that were
    believed: where most of them are gone, it told how something else went.
    """
    kept, left = np.split(~ignored, [len(evidence.points)])
    pair = np.repeat(np.arange(len(evidence.starts) - 1), np.diff(evidence.starts))[kept]
    believed = evidence.believed[kept]
    count = len(evidence.starts) - 1
    surely = np.bincount(pair, believed, minlength=count) >= MOSTLY * np.bincount(pair, minlength=count)
    return replace(
        evidence,
        starts=_starts(evidence.starts, kept),
        points=evidence.points[kept],
        believed=believed | ~surely[pair],
        moved=evidence.moved[kept],
        matches=_matches_left(evidence.matches, left),
    )


def _matches_left(matches: Matches, left: NDArray[np.bool_]) -> Matches:
    """Matches with those of their points (K,) that are left, where these are most of them."""
    counts, remaining = np.diff(matches.starts), np.diff(_starts(matches.starts, left))
    stay = remaining >= MOSTLY * counts
    rows = left & np.repeat(stay, counts)
    starts = np.asarray(np.r_[0, np.cumsum(remaining[stay])], np.int64)
    return replace(
        matches, frames=matches.frames[stay], starts=starts, points=matches.points[rows], moved=matches.moved[rows]
    )


def _starts(starts: NDArray[np.int64], kept: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Where each one's rows start once only the kept ones (M,) are left."""
    return np.asarray(np.r_[0, np.cumsum(kept)][starts], np.int64)


def _seen_uprights(measurement: Measurement, areas: tuple[Area, ...]) -> Uprights:
    uprights = measurement.uprights
    places = sphere_of(measurement.size).points(uprights.rays)
    left = ~IgnoredMasks(measurement, areas).inside(uprights.frames, places)
    return Uprights(uprights.frames[left], uprights.rays[left], uprights.normals[left])
