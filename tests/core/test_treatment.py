"""The treatment document: defaults, round trips, and errors that name the key."""

from pathlib import Path

import pytest

from keen_horizon.core.errors import RangeError, TreatmentError
from keen_horizon.core.treatment.document import SCHEMA, Treatment


def test_default_document_is_the_published_one() -> None:
    document = Treatment().to_json()
    assert document["schema"] == SCHEMA
    assert document["motion"] == {
        "intent": "glide", "response_s": 0.8, "strength": 1.0, "keys": [], "ease": [],
        "pin": {"points": [], "drift_s": 0.0, "lag_s": 0.0}, "level": {"lines": []}, "level_glide": False,
        "freedom": ["shift", "turn", "size"], "bend_limit_px": 0, "rolling_shutter": "measured", "ignore": [],
        "layer": None,
    }  # fmt: skip
    assert Treatment.from_json(document) == Treatment()


def test_range_keys_are_in_and_out() -> None:
    treatment = Treatment.from_json({"range": {"in": 3, "out": 9}})
    assert treatment.frames(20) == (3, 9)
    assert treatment.to_json()["range"] == {"in": 3, "out": 9}
    assert Treatment().frames(20) == (0, 19)
    with pytest.raises(RangeError, match="last frame is 8"):
        treatment.frames(9)


@pytest.mark.parametrize(
    ("document", "named"),
    [
        ({"motoin": {}}, "motoin"),
        ({"motion": {"speed": 3}}, r"motion\.speed"),
        ({"motion": {"response_s": "fast"}}, r"motion\.response_s"),
        ({"motion": {"freedom": ["shift", "shift"]}}, "motion"),
        ({"motion": {"freedom": ["sway"]}}, r"motion\.freedom"),
        ({"edges": {"zoom_limit": 0.5}}, r"edges\.zoom_limit"),
        *(
            ({"motion": {"rolling_shutter": odd}}, r'motion\.rolling_shutter: should be "off", "measured", or how long')
            for odd in (1.5, "mesured", True, None, [0.5])
        ),
        ({"motion": {"strength_keys": [{"frame": 3, "value": 0}, {"frame": 3, "value": 1}]}}, "one frame"),
        ({"motion": {"keys": [{"figure": "strength", "keys": [{"frame": 3, "value": 1.5}]}]}}, "between 0 and 1"),
        ({"motion": {"keys": [{"figure": "canvas", "keys": [{"frame": 3, "value": 1}]}]}}, r"motion\.keys\.0\.figure"),
        ({"motion": {"ease": [{"frame": 3}]}}, r"motion\.ease\.0\.width"),
        ({"edges": {"size": {"width": 641, "height": 360}}}, r"edges\.size\.width"),
        ({"output": {"codec": "prores"}}, "prores does not go into mp4; use mov or mkv"),
        ({"motion": {"level": {"lines": [{"frame": 0, "x1": 0, "y1": 0, "x2": 3, "y2": 0}]}}}, "too short"),
        ({"motion": {"pin": {"points": [{"marks": []}]}}}, r"motion\.pin\.points\.0\.marks"),
        ({"edges": {"borrow": {"reach_s": 9}}}, r"edges\.borrow\.reach_s"),
        ({"edges": {"gap_colour": "red"}}, r"edges\.gap_colour"),
        ({"range": {"in": 9, "out": 3}}, "out point lies before"),
        ({"optics": {"lens": "wide"}}, r"optics\.lens"),
        ({"schema": "other/1"}, "schema"),
        ([], "Treatment"),
        (None, "Treatment"),
    ],
)
def test_errors_name_the_key(document: object, named: str) -> None:
    with pytest.raises(TreatmentError, match=named):
        Treatment.from_json(document)


def test_text_that_is_not_json_is_an_error_too() -> None:
    with pytest.raises(TreatmentError, match="JSON"):
        Treatment.from_text("{not json")


@pytest.mark.parametrize(
    "path", sorted((Path(__file__).parents[2] / "docs/examples").glob("*.json")), ids=lambda p: p.stem
)
def test_published_examples_are_valid(path: Path) -> None:
    treatment = Treatment.from_text(path.read_text())
    assert treatment != Treatment()
    assert Treatment.from_json(treatment.to_json()) == treatment


FORMER = {
    "schema": "keen-horizon/treatment/1",
    "optics": {"upright_lines": [{"frame": 3, "x1": 1, "y1": 2, "x2": 300, "y2": 4}]},
    "motion": {"response_keys": [], "strength_keys": [{"frame": 3, "value": 0.5}]},
    "framing": {"edges": "borrow", "zoom_limit": 1.2},
    "deliver": {"container": "mov", "codec": "prores"},
}
PRESENT = {
    "motion": {
        "rolling_shutter": "off",  # as it was when nothing was said
        "keys": [{"figure": "strength", "keys": [{"frame": 3, "value": 0.5}]}],
    },
    "optics": {"world_lines": [{"frame": 3, "x1": 1, "y1": 2, "x2": 300, "y2": 4}]},
    "edges": {"way": "borrow", "zoom_limit": 1.2},
    "output": {"container": "mov", "codec": "prores"},
}


def test_documents_of_version_1_are_read_for_ever() -> None:
    assert Treatment.from_json(FORMER) == Treatment.from_json(PRESENT)
    assert Treatment.from_json({key: FORMER[key] for key in ("framing", "deliver")}).edges.way == "borrow"
    written = Treatment.from_json(FORMER).to_json()
    assert written["schema"] == "keen-horizon/treatment/2"
    assert "framing" not in written


@pytest.mark.parametrize(
    ("document", "at_fault"),
    [
        (FORMER | {"edges": {}}, "framing: this key is not known"),
        ({"framing": {"edges": "fill", "way": "fill"}}, r"edges\.edges: this key is not known"),
        ({"framing": {"zoom_limit": 9}}, r"edges\.zoom_limit"),
        (
            {"motion": {"keys": [], "strength_keys": [{"frame": 3, "value": 1}]}},
            r"motion\.strength_keys: this key is not",
        ),
    ],
)
def test_a_key_under_both_names_is_refused(document: dict, at_fault: str) -> None:
    with pytest.raises(TreatmentError, match=at_fault):
        Treatment.from_json(document)
