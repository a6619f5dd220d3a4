"""Finding an edit's files among those at hand: by name, by timecode, by length; and the frames that it uses of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor
from typing import Generic, TypeVar

from keen_horizon.core.exchange.edits import Use
from keen_horizon.core.media.probe import ClipInfo

Key = TypeVar("Key")
SLACK_FRAMES = 1.5  # that lengths may differ by, for files count them with and without their last one


@dataclass(frozen=True)
class Link(Generic[Key]):
    """An edit's clip and the file at hand that it uses, with the frames of it: `first` ... `last`, inclusive."""

    use: Use
    key: Key
    first: int
    last: int


@dataclass(frozen=True)
class Miss:
    """An edit's clip whose file was not found, and why."""

    use: Use
    why: str


def relinked(
    uses: Iterable[Use], files: Mapping[Key, ClipInfo], handles: int
) -> tuple[tuple[Link[Key], ...], tuple[Miss, ...]]:
    """Each use with its file among `files`, and `handles` frames more on either side as far as there are any."""
    links: list[Link[Key]] = []
    misses: list[Miss] = []
    for use in uses:
        found = _found(use, files)
        if isinstance(found, str):
            misses.append(Miss(use, found))
            continue
        frames = _frames(use, files[found], handles)
        if frames is None:
            misses.append(Miss(use, f"{files[found].name} does not reach over the part that is used"))
            continue
        links.append(Link(use, found, *frames))
    return tuple(links), tuple(misses)


def covering(links: Iterable[Link[Key]]) -> dict[Key, tuple[int, int]]:
    """The frames of each file that cover all its uses."""
    ranges: dict[Key, tuple[int, int]] = {}
    for link in links:
        first, last = ranges.get(link.key, (link.first, link.last))
        ranges[link.key] = min(first, link.first), max(last, link.last)
    return ranges


def media_begins(use: Use, info: ClipInfo) -> Fraction:
    """When the file's own time begins, seconds: as the edit says, by the file's timecode, or at nothing."""
    if use.media_begins is not None:
        return use.media_begins
    timecode = info.timecode
    if timecode is not None:
        begins = Fraction(timecode.frames) / Fraction(info.rate).limit_denominator(1001)
        if begins <= use.begins:
            return begins
    return Fraction(0)


def _found(use: Use, files: Mapping[Key, ClipInfo]) -> Key | str:
    """The file's key, or why there is none."""
    named = [key for key, info in files.items() if info.name.lower() == use.file.lower()]
    if len(named) == 1:
        return named[0]
    told = bool(use.media_begins)  # a timecode that begins at nothing tells nothing about a file of another name
    alike = [key for key in (named or files) if _alike(use, files[key]) and (named or told)]
    if len(alike) == 1:
        return alike[0]
    if named or alike:
        return f"{len(alike or named)} files could be {use.file}"
    return f"no file that can be read is called {use.file}, and none has its timecode and length"


def _alike(use: Use, info: ClipInfo) -> bool:
    """Whether a file has the timecode and the length that the edit tells."""
    if use.media_begins is None or use.media_lasts is None or info.timecode is None:
        return False
    rate = Fraction(info.rate).limit_denominator(1001)
    begins = abs(Fraction(info.timecode.frames) / rate - use.media_begins) * rate
    lasts = abs(use.media_lasts * rate - info.frames)
    return begins <= Fraction(1, 2) and lasts <= SLACK_FRAMES


def _frames(use: Use, info: ClipInfo, handles: int) -> tuple[int, int] | None:
    rate = Fraction(info.rate).limit_denominator(1001)
    from_start = (use.begins - media_begins(use, info)) * rate
    first = floor(from_start + Fraction(1, 100))
    last = max(first, ceil(from_start + use.lasts * rate - Fraction(1, 100)) - 1)
    if first < 0 or last > info.frames - 1 + SLACK_FRAMES:
        return None
    return max(0, first - handles), min(info.frames - 1, last + handles)
