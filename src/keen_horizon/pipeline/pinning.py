"""Follow a pinned point through a range, both ways from every frame it was set on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import RangeError, Stopped
from keen_horizon.core.geometry.picture import resized, transform
from keen_horizon.core.geometry.similarity import as_complex, as_points
from keen_horizon.core.media.frames import gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.pin import Gray, PinTrack, Trail, between_marks, bridged, follow_point
from keen_horizon.core.treatment import Mark, PinPoint
from keen_horizon.pipeline.streams import ahead

CHUNK = 32


def pin_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    first: int,
    last: int,
    pin: PinPoint,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> PinTrack:
    """The point's track over frames `first` ... `last`. Raises RangeError, Stopped, MediaError."""
    marks = sorted((mark for mark in pin.marks if first <= mark.frame <= last), key=lambda mark: mark.frame)
    if not marks:
        raise RangeError(f"{info.name}: the point was not set inside frames {first}-{last}. Set it there.")
    coded_from_display = resized(info.coded, info.display)
    places = as_complex(transform(coded_from_display, np.array([[mark.x, mark.y] for mark in marks])))
    steps = (marks[0].frame - first) + (last - marks[-1].frame) + 2 * (marks[-1].frame - marks[0].frame)
    done = 0

    def pictures(begin: int, end: int) -> Iterator[Gray]:
        """Luma from frame `begin` to `end`, inclusive, backwards where `end` is the earlier."""
        nonlocal done
        for picture in _forwards(source, times, begin, end) if end >= begin else _backwards(source, times, begin, end):
            if should_stop():
                raise Stopped(f"{info.name}: following the point was stopped.")
            yield picture
            done += 1
            progress(min(done, steps), steps)

    def trail(mark: int, end: int) -> Trail:
        return follow_point(pictures(marks[mark].frame, end), complex(places[mark]))

    pieces = [_reversed(trail(0, first))]
    for at in range(len(marks) - 1):
        forward = trail(at, marks[at + 1].frame)
        backward = _reversed(trail(at + 1, marks[at].frame))
        pieces.append(between_marks(forward, backward)[1:])
    pieces.append(trail(len(marks) - 1, last)[1:])
    whole = bridged(Trail(np.concatenate([p.points for p in pieces]), np.concatenate([p.confidence for p in pieces])))
    shown = as_complex(transform(np.linalg.inv(coded_from_display), as_points(whole.points)))
    return PinTrack(first, Trail(shown, whole.confidence))


def mark_key(marks: tuple[Mark, ...]) -> str:
    """A text that is the same for the same marks, whatever order they were set in."""
    return ";".join(f"{m.frame}:{m.x:.3f}:{m.y:.3f}" for m in sorted(marks, key=lambda mark: mark.frame))


def _forwards(source: Path, times: NDArray[np.float64], begin: int, end: int) -> Iterator[Gray]:
    for frame in ahead(gapless(read_frames(source, begin, end, times), begin, times)):
        yield frame.luma8()


def _backwards(source: Path, times: NDArray[np.float64], begin: int, end: int) -> Iterator[Gray]:
    """A few frames at a time are decoded forwards and given in reverse, so memory stays bounded."""
    high = begin
    while high >= end:
        low = max(end, high - CHUNK + 1)
        yield from reversed(list(_forwards(source, times, low, high)))
        high = low - 1


def _reversed(trail: Trail) -> Trail:
    return Trail(trail.points[::-1], trail.confidence[::-1])
