"""A sign that somebody walks past: where it lay while nobody could see it, by the measured motion of the street."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np
import pytest
from truth import rms

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.carrying import Carrier
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.flat_things import follow_clip
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.pinning import pin_clip
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures

SIZE = Size(640, 360)
COUNT, HIDDEN = 60, range(24, 40)
SIGN = np.array([900 + 560j, 985 + 560j, 985 + 625j, 900 + 625j])  # of the town's picture


@pytest.fixture(scope="module")
def street(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Similarities]:
    """A shaken street that pans while somebody stands before the sign; its poses town_from_frame."""
    drift = Similarities(np.ones(COUNT, np.complex128), 1.5 * np.arange(COUNT) - 40 + 0j)
    poses = drift @ jitter(COUNT, SIZE, 6.0, seed=21)
    clip = tmp_path_factory.mktemp("street") / "street.mp4"
    write_pictures(_passed(shaken_pictures(poses, SIZE, noise=1.0), poses), SIZE, 30, clip, quality=14)
    return clip, poses


def _passed(pictures: Iterator[np.ndarray], poses: Similarities) -> Iterator[np.ndarray]:
    for number, picture in enumerate(pictures):
        if number in HIDDEN:
            here = (SIGN.mean() - poses.t[number]) / poses.z[number]
            left, top = round(here.real) - 75, round(here.imag) - 70
            cv2.rectangle(picture, (left, top), (left + 150, SIZE.height), (40, 60, 90), -1)
        yield picture


def test_a_hidden_point_and_a_hidden_sign_are_where_the_street_says(street: tuple[Path, Similarities]) -> None:
    clip, poses = street
    info, times = probe(clip)
    measured = measure_clip(clip, info, times, 0, COUNT - 1)
    carrier = Carrier.by(measured)
    truth = (SIGN[None, :] - poses.t[:, None]) / poses.z[:, None]
    marks = [{"frame": 3, "corners": np.column_stack([truth[3].real, truth[3].imag]).tolist()}]
    middle = truth.mean(1)
    points = [{"marks": [{"frame": 3, "x": middle[3].real, "y": middle[3].imag}]}]
    wanted = Treatment.from_json({"optics": {"flat": {"marks": marks}}, "motion": {"pin": {"points": points}}})
    point, flat, last = wanted.motion.pin.points[0], wanted.optics.flat, COUNT - 1
    assert flat is not None
    hidden = np.isin(np.arange(COUNT), HIDDEN)
    for name, carried, straight, true in (
        ("point", pin_clip(clip, info, times, 0, last, point, motion=measured).trail,
         pin_clip(clip, info, times, 0, last, point).trail, middle),
        ("sign", follow_clip(clip, info, times, 0, last, flat, wanted.optics, carrier=carrier),
         follow_clip(clip, info, times, 0, last, flat, wanted.optics), truth),
    ):  # fmt: skip
        places = carried.points if name == "point" else carried.corners
        former = straight.points if name == "point" else straight.corners
        off, before = (rms(np.abs(found - true)[hidden]) for found in (places, former))
        seen = rms(np.abs(places - true)[~hidden])
        print(f"{name}: hidden {before:.2f} -> {off:.2f} px, seen {seen:.2f} px")
        assert (carried.confidence[hidden] == 0).mean() > 0.9
        assert (carried.confidence[~hidden] > 0).mean() > 0.9
        assert before > 2
        assert off < 0.5
        assert seen < 0.3
