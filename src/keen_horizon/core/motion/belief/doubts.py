"""Where the measurement is not sure of itself, and why, in words; and between which layers it cannot choose."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.motion.belief.labels import BACKGROUND
from keen_horizon.core.motion.belief.subjects import Outlined, find_subjects, layers_on
from keen_horizon.core.motion.measurement import Measurement

UNSURE = 0.7  # of confidence, below which it is said why
LEAST_POINTS = 40
ASKED_BELOW = 0.85  # of confidence over a clip: an editor is asked which layer stands still
ASKED_SHARE = 0.15  # of the picture, that another layer takes up


@dataclass(frozen=True)
class Doubt:
    """Frames `first` ... `last` of the clip where the motion is not sure, and why."""

    first: int
    last: int
    why: str

    def to_json(self) -> dict[str, Any]:
        """Plain values."""
        return {"first": self.first, "last": self.last, "why": self.why}


def confidence_of(measurement: Measurement) -> float | None:
    """How sure the motion of the whole range is, 0 ... 1: what nine pairs of ten reach; None where nothing is known."""
    told = measurement.confidence
    if told is None or not len(told):
        return None
    usual = told[~measurement.cut]
    return round(float(np.quantile(usual, 0.1)), 3) if len(usual) else 0.0


def doubts(measurement: Measurement) -> list[Doubt]:
    """The stretches in which the motion is not sure, in order."""
    told = measurement.confidence
    if told is None:
        return []
    why = _reasons(measurement, told)
    found: list[Doubt] = []
    for pair, reason in enumerate(why.tolist()):
        frame = measurement.first + pair
        if not reason:
            continue
        if found and found[-1].why == reason and found[-1].last == frame:
            found[-1] = Doubt(found[-1].first, frame + 1, reason)
        else:
            found.append(Doubt(frame, frame + 1, reason))
    return found


def _reasons(measurement: Measurement, told: NDArray[np.float64]) -> NDArray[np.str_]:
    low = told < UNSURE
    return np.select(
        [
            measurement.cut,
            measurement.blind,
            measurement.repeated & low,
            low & (measurement.inliers < LEAST_POINTS),
            low & _two_layers(measurement),
            low,
        ],
        [
            "a new shot begins",
            "nothing could be followed",
            "the frame repeats",
            "few points",
            "two things as likely stand still",
            "few corners of the picture are reached",
        ],
        "",
    )


def _two_layers(measurement: Measurement) -> NDArray[np.bool_]:
    """Whether another layer has points on a pair."""
    evidence = measurement.evidence
    others = (evidence.layer > BACKGROUND).astype(np.int64)
    total = np.r_[0, np.cumsum(others)]
    return np.asarray(np.diff(total[evidence.starts]) > LEAST_POINTS / 2)


def asked_about(measurement: Measurement) -> tuple[Outlined, Outlined] | None:
    """What is taken to stand still and the other layer that may be it, on one frame, where the software cannot choose
    by itself.
    """
    sure = confidence_of(measurement)
    if sure is None or sure >= ASKED_BELOW:
        return None
    for subject in find_subjects(measurement):
        if subject.share >= ASKED_SHARE:
            here = {one.name: one for one in layers_on(measurement, subject.middle.frame)}
            return (here[BACKGROUND], subject.middle) if BACKGROUND in here else None
    return None
