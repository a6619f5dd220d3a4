"""Codes of one bit depth and range as those of another (ITU-T H.273, 8.3)."""

from __future__ import annotations

from dataclasses import replace

import cv2

from keen_horizon.core.media.colour import code_range, whole
from keen_horizon.core.media.formats import VIDEO_FORMATS
from keen_horizon.core.media.stored import Plane, Tags

LIMITED, FULL = 1, 2  # as FFmpeg numbers ranges


def written_tags(tags: Tags, codec: str) -> Tags:
    """The tags that pictures are written with: of limited range where the codec has no place to say otherwise."""
    told = codec not in VIDEO_FORMATS or VIDEO_FORMATS[codec].says_range
    return tags if told else replace(tags, range=LIMITED)


def recoded(
    planes: tuple[Plane, ...], *, depth: int, tags: Tags | None, wanted_depth: int, wanted_tags: Tags | None
) -> tuple[Plane, ...]:
    """Planes Y, U, V, and coverage where there are four, in the codes that are wanted."""
    same_range = _is_full(tags) == _is_full(wanted_tags)
    if depth == wanted_depth and same_range:
        return planes
    black, of_luma, of_chroma = code_range(depth, tags)
    wanted_black, wanted_luma, wanted_chroma = code_range(wanted_depth, wanted_tags)
    middle, wanted_middle = (float(1 << (bits - 1)) for bits in (depth, wanted_depth))
    laws = [
        (wanted_luma / of_luma, black, wanted_black),
        (wanted_chroma / of_chroma, middle, wanted_middle),
        (wanted_chroma / of_chroma, middle, wanted_middle),
        (((1 << wanted_depth) - 1) / ((1 << depth) - 1), 0.0, 0.0),
    ]
    return tuple(
        whole(cv2.add(cv2.multiply(plane, gain, dtype=cv2.CV_32F), wanted_zero - gain * zero), wanted_depth)
        for plane, (gain, zero, wanted_zero) in zip(planes, laws, strict=False)
    )


def _is_full(tags: Tags | None) -> bool:
    return tags is not None and tags.range == FULL
