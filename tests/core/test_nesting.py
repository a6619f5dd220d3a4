"""How deep a text is nested: counted before it is read, texts within it left out."""

from __future__ import annotations

import pytest

from keen_horizon.core.nesting import levels


@pytest.mark.parametrize(
    ("text", "deep"),
    [
        ("5", 0),
        ('{"a": [1, {"b": 2}], "c": []}', 3),
        ('["[[[[", {"}{": "\\"[[["}]', 2),
        ("[" * 5000, 5000),
        ("]]]" + "[" * 4, 1),
        ('["never closed [[[', 1),
        ('["\\', 1),
    ],
)
def test_levels_are_counted_outside_texts(text: str, deep: int) -> None:
    assert levels(text) == deep


def test_a_text_that_never_closes_is_read_once() -> None:
    """Each quotation mark of it might begin a text: were each tried, it would take hours."""
    assert levels('{"' + '\\"' * 500_000) == 1
