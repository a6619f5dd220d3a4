"""Fall-off: what is undone, in which light, and how far."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from stored import stored
from truth import SMALL
from walks import moved

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.mapping.light import undone_glass
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Tags
from keen_horizon.core.media.transfer import coded, linear
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.lift import Lifter, lifter_of
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.plane import jitter, shaken_pictures

GLASS = Falloff((-0.6, 0.05), 0.03 - 0.02j)


def gain_of(falloff: Falloff) -> np.ndarray:
    x, y = np.meshgrid(np.arange(SMALL.width), np.arange(SMALL.height))
    middle, half = SMALL.centre, SMALL.half_diagonal
    return falloff.gain(falloff.squares((x - middle.real) / half, (y - middle.imag) / half)).astype(np.float32)


def test_what_is_undone_is_told_with_its_price() -> None:
    optics = {
        "falloff": {"coefficients": [-0.5], "amount": 0.5},
        "fringe": {"red": [0.002, 0.001], "blue": [-0.001, 0]},
    }
    half = SMALL.half_diagonal
    told = undone_glass(Treatment.from_json({"optics": optics}).optics, SMALL, np.arange(1))
    assert told == pytest.approx({"corner_stops": 0.5, "red_px": 0.003 * half, "blue_px": -0.001 * half}, abs=2e-3)
    optics["falloff"]["amount"], optics["fringe"] = 0, {"centre_x": 0.1}
    assert undone_glass(Treatment.from_json({"optics": optics}).optics, SMALL, np.arange(1)) == {}


@pytest.fixture(scope="module")
def town() -> np.ndarray:
    """R, G, B of the painted town, 0 ... 1."""
    return next(iter(shaken_pictures(Similarities.identity(1), SMALL)))[..., ::-1].astype(np.float32) / 255


@pytest.mark.parametrize("depth", [8, 10])
@pytest.mark.parametrize(("transfer", "worst"), [(1, 0.5), (13, 0.5), (16, 0.6), (18, 1.5)])
def test_undone_the_picture_is_the_clean_one(town: np.ndarray, transfer: int, worst: float, depth: int) -> None:
    tags = Tags(1, transfer, 1, 1, 1)
    dark = coded(linear(town, transfer) * gain_of(GLASS)[..., None], transfer)
    clean = stored(town, depth, tags)
    frame = Frame(0, Fraction(0), stored(dark, depth, tags), depth, tags)
    lifted = Lifter(GLASS, SMALL, SMALL).lifted(frame)
    unit = 1 << (depth - 8)
    for before, after, wanted in zip(frame.planes, lifted.planes, clean, strict=True):
        left = np.abs(after.astype(float) - wanted).mean() / unit
        assert after.dtype == before.dtype
        assert left <= worst
        assert left < np.abs(before.astype(float) - wanted).mean() / unit
    assert np.abs(frame.luma.astype(float) - clean[0]).mean() / unit > 2.5


def test_a_sky_of_10_bits_stays_without_bands() -> None:
    """Undone on a smooth sky, no two neighbours of a row differ by more than the sky itself and a code."""
    sky = np.repeat(np.linspace(0.3, 0.8, SMALL.width, dtype=np.float32)[None], SMALL.height, 0)
    tags = Tags(1, 1, 1, 1, 1)
    dark = coded(linear(np.dstack([sky] * 3), 1) * gain_of(GLASS)[..., None], 1)
    lifted = Lifter(GLASS, SMALL, SMALL).lifted(Frame(0, Fraction(0), stored(dark, 10, tags), 10, tags))
    steps = np.diff(lifted.luma.astype(int), axis=1)
    assert np.abs(steps).max() <= 0.5 / SMALL.width * 876 + 2


def test_what_other_frames_lend_is_lifted_where_they_saw_it(town: np.ndarray) -> None:
    """Held with borrowed edges, dark frames with their fall-off undone are what clean frames give."""
    poses = jitter(12, SMALL, 10.0, seed=2)
    tags = Tags(1, 1, 1, 1, 1)
    clean = [picture[..., ::-1].astype(np.float32) / 255 for picture in shaken_pictures(poses, SMALL, noise=0)]
    gain = gain_of(GLASS)[..., None]
    films = [clean, [coded(linear(rgb, 1) * gain, 1) for rgb in clean]]
    held = {"motion": {"intent": "hold"}, "edges": {"way": "borrow", "zoom_limit": 1.05}}
    glass = {"falloff": {"coefficients": [-0.6, 0.05], "centre_x": 0.03, "centre_y": -0.02, "lift_limit_stops": 6}}
    made = []
    for rgbs, optics in zip(films, ({}, glass), strict=True):
        document = Treatment.from_json(held | {"optics": optics})
        path = solve_path(moved(Measurement.still(SMALL, 0, np.arange(12) / 25), poses), document)
        warper = Warper(path, SMALL, output_frame(path, document, SMALL, Fraction(1)), WrittenChroma("420"), document)
        frames = [Frame(i, Fraction(i, 25), stored(rgb, 10, tags), 10, tags) for i, rgb in enumerate(rgbs)]
        made.append([warper.warp(frame, lambda n, f=frames: f[n] if 0 <= n < 12 else None) for frame in frames])
    lent = np.mean([warped.lent is not None and warped.lent.mean() for warped in made[0]])
    assert lent > 0.01
    for one, other in zip(*made, strict=True):
        assert np.abs(one.planes[0].astype(float) - other.planes[0]).mean() < 2  # of 1023
        assert one.gap_pixels == other.gap_pixels


def test_an_amount_and_a_limit_hold() -> None:
    corner = np.array([1.0])
    assert Falloff((-0.75,)).lift(corner) == pytest.approx(4.0)
    assert Falloff((-0.75,), amount=0.5).lift(corner) == pytest.approx(2.0)
    assert Falloff((-0.75,), most_stops=1.5).lift(corner) == pytest.approx(2**1.5)
    assert Falloff((-3.0,)).lift(corner) == pytest.approx(50)  # where nothing arrived, nothing more is tried
    assert Falloff((-0.75,), most_stops=1.5).corner_stops(16, 9) == pytest.approx(1.5)
    assert Falloff((0.5,)).lift(corner) == 1.0


def test_the_document_says_how_and_what_cannot_be() -> None:
    document = {"optics": {"falloff": {"coefficients": [-0.52, 0.12], "centre_x": 0.02, "transfer": "srgb"}}}
    settings = Treatment.from_json(document).optics.falloff
    lifter = lifter_of(settings, SMALL, SMALL)
    assert lifter is not None
    assert (lifter.transfer, lifter.falloff.centre, lifter.falloff.most_stops) == (13, 0.02, 2.0)
    assert lifter_of(settings.model_copy(update={"amount": 0.0}), SMALL, SMALL) is None  # type: ignore[union-attr]
    for wrong in ({"coefficients": []}, {"coefficients": [-11]}, {"coefficients": [0], "centre_x": 0.4},
                  {"coefficients": [0], "amount": 1.1}, {"coefficients": [0], "transfer": "film"}):  # fmt: skip
        with pytest.raises(TreatmentError, match=r"optics\.falloff"):
            Treatment.from_json({"optics": {"falloff": wrong}})
