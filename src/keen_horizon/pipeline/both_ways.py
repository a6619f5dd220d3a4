"""A range walked both ways from the frames that something was set on, decoded a few frames at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import Stopped
from keen_horizon.core.media.footage import Source
from keen_horizon.core.media.frames import Frame, gapless, read_frames
from keen_horizon.pipeline.streams import ahead

CHUNK = 32
Found = TypeVar("Found")


class BothWays:
    """Walks frames `first` ... `last` from `marks`, sorted frame numbers inside it, telling progress as it goes."""

    def __init__(
        self,
        source: Source,
        times: NDArray[np.float64],
        first: int,
        last: int,
        marks: Sequence[int],
        progress: Callable[[int, int], None],
        should_stop: Callable[[], bool],
        stopped: str,
    ) -> None:
        self._source, self._times = source, times
        self._first, self._last, self._marks = first, last, marks
        self._progress, self._should_stop, self._stopped = progress, should_stop, stopped
        self._steps = (marks[0] - first) + (last - marks[-1]) + 2 * (marks[-1] - marks[0])
        self._done = 0

    def pieces(self, follow: Callable[[int, Iterator[Frame]], Found]) -> Iterator[tuple[Found, Found | None]]:
        """What `follow` finds from the n-th mark through the frames after it, piece by piece in the clip's order.

        The first piece runs backwards from the first mark to the range's start, the last forwards to its end;
        between two marks come both, from the earlier one forwards and from the later one backwards.
        """
        marks = self._marks
        yield follow(0, self._frames(marks[0], self._first)), None
        for at in range(len(marks) - 1):
            forward = follow(at, self._frames(marks[at], marks[at + 1]))
            yield forward, follow(at + 1, self._frames(marks[at + 1], marks[at]))
        yield follow(len(marks) - 1, self._frames(marks[-1], self._last)), None

    def _frames(self, begin: int, end: int) -> Iterator[Frame]:
        """Frames from `begin` to `end`, inclusive, backwards where `end` is the earlier."""
        for frame in self._forwards(begin, end) if end >= begin else self._backwards(begin, end):
            if self._should_stop():
                raise Stopped(self._stopped)
            yield frame
            self._done += 1
            self._progress(min(self._done, self._steps), self._steps)

    def _forwards(self, begin: int, end: int) -> Iterator[Frame]:
        yield from ahead(gapless(read_frames(self._source, begin, end, self._times), begin, self._times, end))

    def _backwards(self, begin: int, end: int) -> Iterator[Frame]:
        """A few frames at a time are decoded forwards and given in reverse, so memory stays bounded."""
        high = begin
        while high >= end:
            low = max(end, high - CHUNK + 1)
            yield from reversed(list(self._forwards(low, high)))
            high = low - 1
