"""Follow a pinned point through a range, both ways from every frame it was set on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import count
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere, sphere_of
from keen_horizon.core.errors import RangeError
from keen_horizon.core.geometry.picture import resized, transform
from keen_horizon.core.geometry.similarity import as_complex, as_points
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.carrying import Carrier, stands_still
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack, Trail, between_marks, bridged, follow_point
from keen_horizon.core.motion.sphere.pin import follow_on_sphere
from keen_horizon.core.motion.sphere.turns import sphere_turns
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
    motion: Measurement | None = None,
) -> PinTrack:
    """The point's track over frames `first` ... `last`; where it is lost, carried by the measured `motion`, if any.

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
    carrier = None if motion is None or motion.sphere else Carrier.by(motion)
    turn_at = _turns_of(motion)

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

        if info.camera == "sphere":
            sphere = Sphere(info.coded, sphere_of(info.display).across)
            turns = (turn_at(numbers[-1]) for _ in count())
            return follow_on_sphere(sphere, lumas(), as_points(places[mark : mark + 1])[0], turns)
        stands = motion is not None and stands_still(motion, marks[mark])
        return follow_point(lumas(), complex(places[mark]), carry if carrier else None, stands)

    (start, _), *between, (end, _) = walk.pieces(trail)
    pieces = [_reversed(start)]
    pieces += [between_marks(forward, _reversed(backward))[1:] for forward, backward in between if backward]
    pieces.append(end[1:])
    points, confidence = (np.concatenate([getattr(p, name) for p in pieces]) for name in ("points", "confidence"))
    shown = Trail(as_complex(transform(display_from_coded, as_points(points))), confidence)
    if carrier is not None:
        shown = carrier.whole(shown, first)
    elif info.camera == "frame":
        shown = bridged(shown)  # on a sphere the solver does, in the scene
    return PinTrack(first, shown)


def _turns_of(motion: Measurement | None) -> Callable[[int], NDArray[np.float64]]:
    """Where a sphere's camera stood at a frame, reference_from_camera (3, 3); as at the first where it is not known."""
    if motion is None or not motion.sphere:
        return lambda number: np.eye(3)
    turns = sphere_turns(motion, sphere_of(motion.size)).rotations.as_matrix()
    return lambda number: np.asarray(turns[np.clip(number - motion.first, 0, len(turns) - 1)])


def mark_key(marks: tuple[Mark, ...]) -> str:
    """A text that is the same for the same marks, whatever order they were set in."""
    return ";".join(f"{m.frame}:{m.x:.3f}:{m.y:.3f}" for m in sorted(marks, key=lambda mark: mark.frame))


def _reversed(trail: Trail) -> Trail:
    return Trail(trail.points[::-1], trail.confidence[::-1])
