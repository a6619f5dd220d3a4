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
from keen_horizon.core.motion.carrying import Carrier
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
    carrier: Carrier | None = None,
) -> PinTrack:
    """The point's track over frames `first` ... `last`; where it is lost, carried where the motion was measured.

    Raises RangeError, Stopped, MediaError.
    """
    marks = sorted((mark for mark in pin.marks if first <= mark.frame <= last), key=lambda mark: mark.frame)
    if not marks:
        raise RangeError(f"{info.name}: the point was not set inside frames {first}-{last}. Set it there.")
    coded_from_display = resized(info.coded, info.display)
    places = as_complex(transform(coded_from_display, np.array([[mark.x, mark.y] for mark in marks])))
    walk = BothWays(
        info.footage(source), times, first, last, [mark.frame for mark in marks], progress, should_stop,
        f"{info.name}: following the point was stopped.",
    )  # fmt: skip

    display_from_coded = np.asarray(np.linalg.inv(coded_from_display), np.float64)

    def trail(mark: int, frames: Iterator[Frame]) -> Trail:
        numbers: list[int] = []

        def lumas() -> Iterator[NDArray[np.uint8]]:
            for frame in frames:
                numbers.append(frame.number)
                yield frame.luma8()

        def carry(at: int, place: complex) -> complex:
            assert carrier is not None
            shown = as_complex(transform(display_from_coded, as_points(np.array([place]))))
            moved = carrier.moved(shown, numbers[at - 1], numbers[at])
            return complex(as_complex(transform(coded_from_display, as_points(moved)))[0])

        return follow_point(lumas(), complex(places[mark]), carry if carrier else None)

    (start, _), *between, (end, _) = walk.pieces(trail)
    pieces = [_reversed(start)]
    pieces += [between_marks(forward, _reversed(backward))[1:] for forward, backward in between if backward]
    pieces.append(end[1:])
    points, confidence = (np.concatenate([getattr(p, name) for p in pieces]) for name in ("points", "confidence"))
    shown = Trail(as_complex(transform(display_from_coded, as_points(points))), confidence)
    return PinTrack(first, carrier.whole(shown, first) if carrier else bridged(shown))


def mark_key(marks: tuple[Mark, ...]) -> str:
    """A text that is the same for the same marks, whatever order they were set in."""
    return ";".join(f"{m.frame}:{m.x:.3f}:{m.y:.3f}" for m in sorted(marks, key=lambda mark: mark.frame))


def _reversed(trail: Trail) -> Trail:
    return Trail(trail.points[::-1], trail.confidence[::-1])
