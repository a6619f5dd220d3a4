"""Light and colours of glass that change over the clip: keyed, undone frame by frame, and lowered for a viewer."""

from __future__ import annotations

import base64
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from truth import SMALL

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.lens.profile import profile_of
from keen_horizon.core.mapping.light import drawn_fringe, drawn_light, falloff_at, fringe_at, undone_glass
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Tags
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.starting_points import for_another_clip
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import LensSettings

FRAMES = np.arange(120)


def track(figure: str, *keys: tuple[int, float], ease: str = "even") -> dict[str, Any]:
    return {"figure": figure, "keys": [{"frame": frame, "value": value, "ease": ease} for frame, value in keys]}


ZOOMED = {
    "falloff": {
        "coefficients": [-0.2],
        "keys": [track("falloff_1", (0, -0.2), (100, -0.6)), track("falloff_x", (0, 0.0), (100, 0.1))],
    },
    "fringe": {"red": [0.001, 0], "keys": [track("red_1", (20, 0.001), (60, 0.003)), track("blue_2", (0, -0.002))]},
}


def rendered(optics: dict[str, Any], number: int) -> tuple[np.ndarray, ...]:
    document = Treatment.from_json({"optics": optics, "motion": {"intent": None}})
    path = solve_path(Measurement.still(SMALL, 0, FRAMES / 25), document)
    warper = Warper(path, SMALL, output_frame(path, document, SMALL, Fraction(1)), WrittenChroma("420"), document)
    random = np.random.default_rng(1)
    planes = [random.integers(40, 200, (SMALL.height // step, SMALL.width // step), np.uint8) for step in (1, 2, 2)]
    frame = Frame(0, Fraction(0), tuple(planes), 8, Tags(1, 1, 1, 1, 1))
    return [warper.warp(replace(frame, number=other)) for other in (0, number)][1].planes


def test_a_frame_is_undone_by_what_is_keyed_there() -> None:
    there = {
        "falloff": {"coefficients": [-0.4], "centre_x": 0.05},
        "fringe": {"red": [0.0025, 0], "blue": [0, -0.002]},
    }
    for keyed, plain in zip(rendered(ZOOMED, 50), rendered(there, 50), strict=True):
        assert np.abs(keyed.astype(int) - plain).max() <= 1
    assert (rendered(ZOOMED, 50)[0] != rendered(ZOOMED, 90)[0]).any()


def test_a_viewer_draws_between_nodes_what_is_keyed() -> None:
    optics = Treatment.from_json({"optics": ZOOMED}).optics
    falloff, fringe = optics.falloff, optics.fringe
    assert falloff is not None
    assert fringe is not None
    light = drawn_light(falloff, 1, SMALL, FRAMES)
    colours = drawn_fringe(fringe, FRAMES)
    assert light is not None
    assert colours is not None
    table = np.frombuffer(base64.b64decode(light["factors"]), "<f4").reshape(len(light["nodes"]), -1)
    assert {0, 19, 20, 60, 100, 119} - set(light["nodes"]) <= {19, 20, 60}
    assert {19, 20, 59, 60} <= set(colours["nodes"])
    for frame in (0, 33, 50, 71, 119):
        alone = drawn_light(falloff_at(falloff, frame), 1, SMALL, FRAMES)
        assert alone is not None
        steps = np.linspace(0, light["reach"] ** 2, 256)
        own = np.linspace(0, alone["reach"] ** 2, 256)
        wanted = np.interp(steps, own, np.frombuffer(base64.b64decode(alone["factors"]), "<f4"))
        seen = [np.interp(frame, light["nodes"], column) for column in table.T]
        inside = steps < alone["reach"] ** 2
        assert np.abs(np.array(seen) - wanted)[inside].max() < 0.003
        red = np.interp(frame, colours["nodes"], [ends[0] for ends in colours["red"]])
        assert red == pytest.approx(fringe_at(fringe, frame).red[0], abs=2e-6)
    assert undone_glass(optics, SMALL, FRAMES)["red_px"] == pytest.approx(0.003 * SMALL.half_diagonal, abs=1e-3)
    assert drawn_light(falloff.model_copy(update={"keys": ()}), 1, SMALL, FRAMES)["nodes"] == [0]


def test_keys_stay_the_clips_own() -> None:
    treatment = Treatment.from_json({"optics": ZOOMED})
    carried = for_another_clip(treatment, Treatment()).optics
    assert carried.falloff is not None
    assert carried.falloff.coefficients == (-0.2,)
    assert carried.falloff.keys == ()
    back = for_another_clip(Treatment.from_json({"optics": {"falloff": {"coefficients": [0.0]}}}), treatment).optics
    assert back.falloff is not None
    assert len(back.falloff.keys) == 2
    lens = LensSettings(family="division", coefficients=(0.1,))
    profile = profile_of("A lens", SMALL, lens, falloff=treatment.optics.falloff, fringe=treatment.optics.fringe)
    assert profile.falloff is not None
    assert profile.fringe is not None
    assert profile.falloff.coefficients == (-0.2,)
    assert (profile.falloff.keys, profile.fringe.keys) == ((), ())


def test_wrong_keys_are_named() -> None:
    for part, keys, said in (
        ("falloff", [track("falloff_1", (0, 40.0))], "falloff_1 must lie between -10 and 10"),
        ("fringe", [track("red_1", (0, 0.0)), track("red_1", (3, 0.0))], "keyed twice"),
        ("fringe", [track("falloff_1", (0, 0.0))], "figure"),
    ):
        settings = {"coefficients": [0.0]} if part == "falloff" else {}
        with pytest.raises(TreatmentError, match=said):
            Treatment.from_json({"optics": {part: settings | {"keys": keys}}})
