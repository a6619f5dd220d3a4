"""What the measurement believes, as the bench shows it: points, areas over time, what moves by itself, and doubts."""

from __future__ import annotations

from typing import Any

import numpy as np

from keen_horizon.core.geometry.similarity import as_complex
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.belief.areas import area_over_time
from keen_horizon.core.motion.belief.doubts import asked_about, confidence_of, doubts
from keen_horizon.core.motion.belief.labels import IGNORED
from keen_horizon.core.motion.belief.subjects import find_subjects
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.operations.believing_around import belief_around, points_around
from keen_horizon.operations.solving import Question

MOST_FRAMES = 120  # of one block
SHOWN_IGNORED = -2


def belief_told(question: Question) -> dict[str, Any]:
    """Confidence, doubts and what moves by itself; `known` says whether the measurement keeps what tells that."""
    if question.measurement.sphere:
        return belief_around(question)
    measurement = _believed(question)
    if measurement.confidence is None or not question.measured:
        return {"known": False, "confidence": None, "pairs": [], "doubts": [], "subjects": [], "asked": None}
    asked = asked_about(measurement)
    return {
        "known": True,
        "confidence": confidence_of(measurement),
        "pairs": measurement.confidence.round(2).tolist(),
        "first": measurement.first,
        "doubts": [doubt.to_json() for doubt in doubts(measurement)],
        "subjects": [subject.to_json() | {"at": subject.middle.to_json()} for subject in find_subjects(measurement)],
        "asked": None if asked is None else [choice.to_json() for choice in asked],
    }


def points_of(question: Question, first: int) -> dict[str, Any]:
    """The points of some frames from clip number `first`, as columns: frame n has rows `starts[n]` ... `starts[n + 1]`.

    `x`, `y` px; `identity`; `layer` 0 for the background, others for what moves otherwise, -1 unknown, -2 ignored;
    `since` the frame it was first seen in; `off` px from where the believed motion takes it; a sphere's points are no
    longer known in the frame after. `areas` are the polygons of the treatment's areas on each frame, null where one is
    not there.
    """
    measurement = question.measurement
    start = int(np.clip(first - measurement.first, 0, len(measurement) - 1))
    stop = min(start + MOST_FRAMES, len(measurement) - 1)
    points = points_around if measurement.sphere else _points
    areas = [area_over_time(area, measurement) for area in question.treatment.motion.ignore]
    return {
        "first": measurement.first + start,
        "frames": stop - start,
        **points(question, start, stop),
        "areas": [
            [area.on(place).round(1).tolist() if area.there[place] else None for place in range(start, stop + 1)]
            for area in areas
        ],
    }


def _points(question: Question, start: int, stop: int) -> dict[str, Any]:
    """Those of frames `start` ... `stop` - 1, counted from the range's first."""
    measurement = _believed(question)
    evidence = measurement.evidence
    pairs = np.arange(start, stop)
    table = slice(int(evidence.starts[start]), int(evidence.starts[stop]))
    pair = np.repeat(pairs, np.diff(evidence.starts)[start:stop])
    source, target = as_complex(evidence.points[table]), as_complex(evidence.moved[table])
    off = np.abs(measurement.pairs.z[pair] * source + measurement.pairs.t[pair] - target)
    layer = evidence.layer[table]
    return {
        "starts": (evidence.starts[start : stop + 1] - evidence.starts[start]).tolist(),
        "x": source.real.round(1).tolist(),
        "y": source.imag.round(1).tolist(),
        "identity": evidence.identity[table].tolist(),
        "layer": np.where(layer == IGNORED, SHOWN_IGNORED, layer).tolist(),
        "since": (measurement.first + _births(measurement)[evidence.identity[table]]).tolist(),
        "off": off.round(2).tolist(),
    }


def _births(measurement: Measurement) -> np.ndarray:
    """The frame (I,), counted from the range's first, in which each identity was first seen."""
    evidence = measurement.evidence
    pair = np.repeat(np.arange(len(evidence.starts) - 1), np.diff(evidence.starts))
    births = np.zeros(int(evidence.identity.max(initial=-1)) + 1, np.int64)
    births[evidence.identity[::-1]] = pair[::-1]
    return births


def _believed(question: Question) -> Measurement:
    return believed_as(question.measurement, question.treatment.motion.belief)
