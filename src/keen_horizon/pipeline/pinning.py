"""Follow a pinned point through a range, both ways from every frame it was set on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import RangeError
from keen_horizon.core.geometry.picture import resized, transform
from keen_horizon.core.geometry.similarity import as_complex, as_points
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.pin import PinTrack, Trail, between_marks, bridged, follow_point
from keen_horizon.core.treatment.motion import Mark, PinPoint
from keen_horizon.pipeline.both_ways import BothWays


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
    walk = BothWays(
        info.footage(source), times, first, last, [mark.frame for mark in marks], progress, should_stop,
        f"{info.name}: following the point was stopped.",
    )  # fmt: skip

    def trail(mark: int, frames: Iterator[Frame]) -> Trail:
        return follow_point((frame.luma8() for frame in frames), complex(places[mark]))

    (start, _), *between, (end, _) = walk.pieces(trail)
    pieces = [_reversed(start)]
    pieces += [between_marks(forward, _reversed(backward))[1:] for forward, backward in between if backward]
    pieces.append(end[1:])
    whole = bridged(Trail(np.concatenate([p.points for p in pieces]), np.concatenate([p.confidence for p in pieces])))
    shown = as_complex(transform(np.linalg.inv(coded_from_display), as_points(whole.points)))
    return PinTrack(first, Trail(shown, whole.confidence))


def mark_key(marks: tuple[Mark, ...]) -> str:
    """A text that is the same for the same marks, whatever order they were set in."""
    return ";".join(f"{m.frame}:{m.x:.3f}:{m.y:.3f}" for m in sorted(marks, key=lambda mark: mark.frame))


def _reversed(trail: Trail) -> Trail:
    return Trail(trail.points[::-1], trail.confidence[::-1])
