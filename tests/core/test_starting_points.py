"""Starting points: what they change, and what stays a clip's own."""

from __future__ import annotations

import pytest

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.starting_points import SHIPPED, for_another_clip, settings_of, started
from keen_horizon.core.treatment.document import Treatment

OWN = Treatment.from_json(
    {
        "range": {"in": 4, "out": 40},
        "motion": {
            "intent": "hold", "ease": [{"frame": 9, "width": 4}], "strength_keys": [{"frame": 5, "value": 0.5}],
            "pin": {"points": [{"marks": [{"frame": 5, "x": 3, "y": 4}]}]},
        },
        "edges": {"way": "leave", "window": {"x": 9}},
        "output": {"codec": "prores", "container": "mov"},
    }
)  # fmt: skip


@pytest.mark.parametrize("name", SHIPPED)
def test_shipped_sets_are_valid_and_leave_alone_what_belongs_to_the_clip(name: str) -> None:
    after = started(OWN, SHIPPED[name])
    assert after.motion.intent == SHIPPED[name]["motion"]["intent"]
    assert (after.range, after.motion.ease, after.motion.pin) == (OWN.range, OWN.motion.ease, OWN.motion.pin)
    assert after.edges.window == OWN.edges.window
    assert after.output == OWN.output


def test_a_set_made_from_a_treatment_gives_it_back() -> None:
    made = settings_of(OWN)
    again = started(Treatment(), made)
    assert again.motion.intent == "hold"
    assert again.edges.way == "leave"
    assert again.output == OWN.output
    assert again.range is None
    assert again.motion.ease == ()
    assert settings_of(again) == made


def test_broken_sets_are_refused() -> None:
    with pytest.raises(TreatmentError, match="zoom_limit"):
        started(Treatment(), {"edges": {"zoom_limit": 99}})


def test_a_treatment_for_another_clip() -> None:
    theirs = Treatment.from_json({"range": {"in": 1, "out": 3}, "motion": {"level": {"lines": [
        {"frame": 2, "x1": 0, "y1": 0, "x2": 50, "y2": 0}]}}})  # fmt: skip
    lens = {"lens": {"family": "division", "coefficients": [-0.1]}, "straightedges": [{"frame": 0, "points": [[1, 2]]}]}
    glass = for_another_clip(Treatment.from_json({"optics": lens}), theirs).optics
    assert glass.lens is not None
    assert glass.straightedges == ()
    carried = for_another_clip(OWN, theirs)
    assert carried.motion.intent == "hold"
    assert carried.output == OWN.output
    assert (carried.range, carried.motion.level, carried.motion.ease) == (theirs.range, theirs.motion.level, ())
    assert carried.motion.pin.points == ()


def test_sets_kept_under_former_names_are_applied() -> None:
    after = started(Treatment(), {"framing": {"edges": "trim"}, "deliver": {"quality": 9}})
    assert (after.edges.way, after.output.quality) == ("trim", 9)
