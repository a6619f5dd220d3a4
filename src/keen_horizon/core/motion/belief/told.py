"""A measurement as the open `motion.json` document."""

from __future__ import annotations

from typing import Any

import numpy as np

from keen_horizon.core.motion.belief.subjects import find_subjects
from keen_horizon.core.motion.measurement import Measurement


def motion_json(measurement: Measurement, pixel_aspect: float) -> dict[str, Any]:
    """The motion of every pair in stored source pixels, how sure it is, and what moves by itself."""
    squeeze = np.array([[1 / pixel_aspect, 0, (1 / pixel_aspect - 1) / 2], [0, 1, 0], [0, 0, 1]])
    matrices = squeeze @ measurement.pairs.matrices() @ np.linalg.inv(squeeze)
    told = measurement.confidence
    return {
        "width": round(measurement.size.width / pixel_aspect),
        "height": measurement.size.height,
        "frames": len(measurement),
        "times": (measurement.times - measurement.times[0]).tolist(),
        "readout": measurement.readout.to_json(),
        "pairs": [
            {
                "from": measurement.first + i,
                "to": measurement.first + i + 1,
                "matrix": matrices[i].tolist(),
                "inliers": int(measurement.inliers[i]),
                "tracked": int(measurement.tracked[i]),
                "confidence": None if told is None else round(float(told[i]), 3),
            }
            for i in range(len(measurement.pairs))
        ],
        "subjects": [subject.to_json() for subject in find_subjects(measurement)],
    }
