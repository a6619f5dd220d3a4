"""Timecode against counting by hand: every number of drop-frame's first hours, and what a viewer is told."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from itertools import islice

import pytest

from keen_horizon.core.media.timecode import Timecode

NTSC = Fraction(30000, 1001)


def by_hand(nominal: int, left_out: int) -> Iterator[str]:
    """Numbers in the order that they are counted, as SMPTE ST 12-1 says it in words."""
    for minutes in range(24 * 60):
        for second in range(60):
            for frame in range(nominal):
                if second == 0 and frame < left_out and minutes % 10:
                    continue
                yield f"{minutes // 60:02}:{minutes % 60:02}:{second:02}{';' if left_out else ':'}{frame:02}"


@pytest.mark.parametrize(
    ("rate", "first", "left_out", "every"),
    [
        (NTSC, "00:00:00;00", 2, 1),
        (NTSC * 2, "00:00:00;00", 4, 7),
        (Fraction(25), "00:00:00:00", 0, 7),
        (NTSC, "00:00:00:00", 0, 7),
    ],
)
def test_counting_over_the_hour(rate: Fraction, first: str, left_out: int, every: int) -> None:
    start = Timecode.read(first, rate)
    assert start is not None
    numbers = enumerate(islice(by_hand(round(rate), left_out), round(rate) * 3700))
    for number, told in islice(numbers, 0, None, every):
        assert str(start.plus(number)) == told
        assert Timecode.read(told, rate) == start.plus(number)


def test_after_a_day_it_begins_again() -> None:
    last = Timecode.read("23:59:59;29", NTSC)
    assert last is not None
    assert str(last.plus(1)) == "00:00:00;00"


@pytest.mark.parametrize("text", ["", "10:00", "25:00:00:00", "10:61:00:00", "10:00:00:25", "ten o'clock"])
def test_what_is_no_timecode(text: str) -> None:
    assert Timecode.read(text, Fraction(25)) is None


def test_a_picture_a_field_counts_twice_as_finely() -> None:
    start = Timecode.read("09:59:58:20", Fraction(25))
    assert start is not None
    assert [str(start.finer(2).plus(number)) for number in (0, 1, 2, 10)] == [
        "09:59:58:40", "09:59:58:41", "09:59:58:42", "09:59:59:00",
    ]  # fmt: skip


@pytest.mark.parametrize("first", ["00:58:59;20", "00:59:00;02", "00:00:00;00", "23:59:50;00"])
def test_a_viewer_can_count_on_from_what_it_is_told(first: str) -> None:
    start = Timecode.read(first, NTSC)
    assert start is not None
    frames = 8000
    starts = start.starts(frames)
    assert len(starts) < 8
    for frame in range(frames):
        begins, number = max(place for place in starts if place[0] <= frame)
        number += frame - begins
        seconds = number // 30
        shown = f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02};{number % 30:02}"
        assert shown == str(start.plus(frame))
