"""Finding an edit's files among those at hand: by name, by timecode, by length; and the frames that it uses of them.

An edit tells seconds of a file's own time. Where a file's pictures come evenly these are frames by its rate; where they
do not, by the times that its pictures are shown at.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from math import ceil, floor
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.exchange.edits import Replacement, Use
from keen_horizon.core.media.probe import ClipInfo

Key = TypeVar("Key")
SLACK_FRAMES = Fraction(3, 2)  # that lengths may differ by, for files count them with and without their last one
SLIGHT = Fraction(1, 100)  # of a frame: edits' times are rounded
FINEST_CLOCK = 1_000_000  # ticks a second
EVENLY = np.zeros(0)  # stands for the times of pictures that come evenly, which are not asked for


@dataclass(frozen=True)
class Media:
    """A file at hand: its facts, and when its pictures are shown (N,), s; or `EVENLY`."""

    info: ClipInfo
    times: NDArray[np.float64]

    @property
    def rate(self) -> Fraction:
        """Pictures a second."""
        return Fraction(self.info.usual_rate).limit_denominator(1001)

    def shown(self, frame: int) -> Fraction:
        """Seconds from the first picture to a frame; of the one after the last: to the end."""
        if self._uneven is None:
            return frame / self.rate
        return Fraction(float(self._uneven[frame])).limit_denominator(FINEST_CLOCK)

    def at(self, seconds: Fraction) -> int:
        """The frame that is there so many seconds after the first picture; below 0 before it."""
        if self._uneven is None:
            return floor(seconds * self.rate + SLIGHT)
        return int(np.searchsorted(self._uneven, float(seconds + SLIGHT / self.rate), "right")) - 1

    def before(self, seconds: Fraction) -> int:
        """The last frame that comes on before so many seconds after the first picture."""
        if self._uneven is None:
            return ceil(seconds * self.rate - SLIGHT) - 1
        return int(np.searchsorted(self._uneven, float(seconds - SLIGHT / self.rate), "left")) - 1

    @cached_property
    def _uneven(self) -> NDArray[np.float64] | None:
        """Seconds from the first picture to every one and to the end, where pictures do not come evenly."""
        if not self.info.variable_rate:
            return None
        return np.append(self.times - self.times[0], self.info.duration)


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
    uses: Iterable[Use], files: Mapping[Key, Media], handles: int
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
            misses.append(Miss(use, f"{files[found].info.name} does not reach over the part that is used"))
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


def replacement(link: Link[Key], media: Media, address: str, frames: tuple[int, int]) -> Replacement:
    """A file that holds frames `frames` (inclusive) of a link's file, corrected."""
    first, last = frames
    begins = media.shown(first)
    return Replacement(
        address=address,
        begins=media_begins(link.use, media) + begins,
        lasts=media.shown(last + 1) - begins,
        rate=media.rate,
    )


def media_begins(use: Use, media: Media) -> Fraction:
    """When the file's own time begins, seconds: as the edit says, by the file's timecode, or at nothing."""
    if use.media_begins is not None:
        return use.media_begins
    timecode = media.info.timecode
    if timecode is not None:
        begins = timecode.frames / media.rate
        if begins <= use.begins:
            return begins
    return Fraction(0)


def _found(use: Use, files: Mapping[Key, Media]) -> Key | str:
    """The file's key, or why there is none."""
    named = [key for key, media in files.items() if media.info.name.lower() == use.file.lower()]
    if len(named) == 1:
        return named[0]
    told = bool(use.media_begins)  # a timecode that begins at nothing tells nothing about a file of another name
    alike = [key for key in (named or files) if _alike(use, files[key]) and (named or told)]
    if len(alike) == 1:
        return alike[0]
    if named or alike:
        return f"{len(alike or named)} files could be {use.file}"
    return f"no file that can be read is called {use.file}, and none has its timecode and length"


def _alike(use: Use, media: Media) -> bool:
    """Whether a file has the timecode and the length that the edit tells."""
    timecode = media.info.timecode
    if use.media_begins is None or use.media_lasts is None or timecode is None:
        return False
    begins = abs(timecode.frames / media.rate - use.media_begins) * media.rate
    lasts = abs(use.media_lasts - media.shown(media.info.frames)) * media.rate
    return begins <= Fraction(1, 2) and lasts <= SLACK_FRAMES


def _frames(use: Use, media: Media, handles: int) -> tuple[int, int] | None:
    begins = use.begins - media_begins(use, media)
    ends, count = begins + use.lasts, media.info.frames
    first = media.at(begins)
    last = max(first, media.before(ends))
    missing = (ends - media.shown(count)) * media.rate
    if first < 0 or missing > SLACK_FRAMES + SLIGHT or first >= count:
        return None
    return max(0, first - handles), min(count - 1, last + handles)
