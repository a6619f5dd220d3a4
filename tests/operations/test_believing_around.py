"""The points of a sphere, as its bench shows them."""

from __future__ import annotations

from dataclasses import replace
from typing import cast

import numpy as np
from spheres import SMALL, cube, measured, rocker

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.glass.shutter import Readout
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.believing_around import points_around
from keen_horizon.operations.solving import Question
from keen_horizon.simulator.sphere import SphereFilm

FRAMES, READOUT = 12, 0.6


def standing(measurement: Measurement) -> float:
    """The share of a film's points that are shown as standing still."""
    question = Question(
        clip="film.mp4", info=cast(ClipInfo, None), treatment=Treatment(), measurement=measurement, pins=(), flat=None,
        measured=True,
    )  # fmt: skip
    return float(np.mean(np.array(points_around(question, 0, FRAMES - 1)["layer"]) == 0))


def test_points_stand_still_where_only_their_rows_were_read_later() -> None:
    stands = rocker(degrees=4.0)
    film = SphereFilm(cube(), Sphere(SMALL), stands(np.arange(FRAMES)), stands, READOUT)
    measurement = measured(film.pictures())
    assert standing(measurement) < 0.7
    assert standing(replace(measurement, readout=Readout(READOUT, 0.01, True))) > 0.9
