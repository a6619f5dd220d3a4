"""Codes of one depth and range as those of another."""

from __future__ import annotations

import numpy as np
import pytest

from keen_horizon.core.media.recoding import FULL, LIMITED, recoded, written_tags
from keen_horizon.core.media.stored import Tags


def of_range(code_range: int) -> Tags:
    return Tags(1, 1, 1, code_range)


@pytest.mark.parametrize(
    ("depth", "code_range", "codes", "wanted_depth", "wanted_range", "wanted"),
    [
        (8, LIMITED, (16, 235, 16, 240, 128, 0, 255), 10, LIMITED, (64, 940, 64, 960, 512, 0, 1023)),
        (8, FULL, (0, 255, 0, 255, 128, 0, 255), 10, LIMITED, (64, 940, 62, 958, 512, 0, 1023)),
        (10, LIMITED, (64, 940, 66, 958, 512, 2, 1023), 8, LIMITED, (16, 235, 16, 240, 128, 0, 255)),
        (10, FULL, (0, 1023, 4, 1023, 512, 0, 1023), 8, FULL, (0, 255, 1, 255, 128, 0, 255)),
    ],
)
def test_black_white_and_grey_stay_what_they_are(
    depth: int, code_range: int, codes: tuple[int, ...], wanted_depth: int, wanted_range: int, wanted: tuple[int, ...]
) -> None:
    """Luma's black and white, chroma's ends and middle, coverage's none and all."""
    kind = np.uint8 if depth == 8 else np.uint16
    luma, blue, cover = (np.array([part], kind) for part in (codes[:2], codes[2:5], codes[5:]))
    told = recoded(
        (luma, blue, blue, cover),
        depth=depth,
        tags=of_range(code_range),
        wanted_depth=wanted_depth,
        wanted_tags=of_range(wanted_range),
    )
    assert [int(code) for plane in (told[0], told[1], told[3]) for code in plane[0]] == list(wanted)
    assert told[0].dtype == (np.uint8 if wanted_depth == 8 else np.uint16)


def test_what_needs_no_other_codes_stays_itself() -> None:
    planes = (np.zeros((2, 2), np.uint8),) * 3
    assert recoded(planes, depth=8, tags=None, wanted_depth=8, wanted_tags=of_range(LIMITED)) is planes


def test_a_codec_that_says_no_range_is_given_limited_ones() -> None:
    assert written_tags(of_range(FULL), "prores").range == LIMITED
    assert written_tags(of_range(FULL), "h264").range == FULL
    assert written_tags(of_range(FULL), "png").range == FULL
