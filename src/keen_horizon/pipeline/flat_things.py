"""Follow a flat thing, by four corners, through a range: both ways from every frame its corners were set on."""

from __future__ import annotations

import csv
import hashlib
import io
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import RangeError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import as_complex, as_points
from keen_horizon.core.lens.over_time import OpticsStage, optics_stage
from keen_horizon.core.lens.plate import TURNING, plates_of
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.carrying import Carrier
from keen_horizon.core.motion.flat_thing import PlaneTrack, Seen, blended, follow_flat_thing, whole
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import FlatThing, Optics
from keen_horizon.pipeline.both_ways import BothWays
from keen_horizon.pipeline.finding import upright_luma

Floats = NDArray[np.float64]


def lens_alone(optics: Optics) -> Optics:
    """The optics that a flat thing is followed through: the lens, nothing turned, nothing lost."""
    lens = None if optics.lens is None else optics.lens.model_copy(update={"canvas": 0.0, "enlarge": False})
    keys = tuple(track for track in optics.keys if track.figure not in TURNING)
    return Optics(lens=lens, keys=keys if lens is not None else ())


def flat_key(thing: FlatThing, optics: Optics) -> str:
    """A text that is the same for the same marks seen through the same lens."""
    marks = sorted(thing.marks, key=lambda mark: mark.frame)
    told = "".join(part.model_dump_json() for part in (*marks, lens_alone(optics)))
    told = told.replace('"world_lines":', '"upright_lines":')  # as what was followed under version 1 is kept
    return hashlib.sha256(told.encode()).hexdigest()


def follow_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    first: int,
    last: int,
    thing: FlatThing,
    optics: Optics,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    carrier: Carrier | None = None,
) -> PlaneTrack:
    """The corners over frames `first` ... `last`; where they are lost, carried where the motion was measured.

    Raises RangeError, Stopped, MediaError, LensError.
    """
    marks = sorted((mark for mark in thing.marks if first <= mark.frame <= last), key=lambda mark: mark.frame)
    if not marks:
        raise RangeError(f"{info.name}: the corners were not set inside frames {first}-{last}. Set them there.")
    stage = optics_stage(lens_alone(optics), info.display, first, last)
    walk = BothWays(
        info.footage(source), times, first, last, [mark.frame for mark in marks], progress, should_stop,
        f"{info.name}: following the corners was stopped.",
    )  # fmt: skip

    def straight(frame: int, points: Floats) -> Floats:
        return points if stage is None else stage.straighten(frame, points)

    def bent(frame: int, points: Floats) -> Floats:
        return points if stage is None else stage.points(frame, points)

    def follow(mark: int, frames: Iterator[Frame]) -> tuple[Floats, Floats]:
        numbers: list[int] = []

        def looks() -> Iterator[Seen]:
            for frame in frames:
                numbers.append(frame.number)
                yield _seen(frame, info.display, stage)

        def carry(at: int, corners: Floats) -> Floats:
            assert carrier is not None
            before, now = numbers[at - 1], numbers[at]
            return straight(now, as_points(carrier.moved(as_complex(bent(before, corners)), before, now)))

        corners = straight(marks[mark].frame, np.array(marks[mark].corners))
        return follow_flat_thing(looks(), corners, carry if carrier else None)

    def reversed_(trail: tuple[Floats, Floats]) -> tuple[Floats, Floats]:
        return trail[0][::-1], trail[1][::-1]

    (start, _), *between, (end, _) = walk.pieces(follow)
    pieces = [reversed_(start)]
    for forward, backward in between:
        assert backward is not None
        corners, known = blended(forward, reversed_(backward))
        pieces.append((corners[1:], known[1:]))
    pieces.append((end[0][1:], end[1][1:]))
    confidence = np.concatenate([known for _, known in pieces])
    corners = np.concatenate([corners for corners, _ in pieces])
    if carrier is None:
        filled = whole(corners[..., 0] + 1j * corners[..., 1], confidence)
        source = [bent(first + i, np.stack([row.real, row.imag], -1)) for i, row in enumerate(filled)]
        return PlaneTrack(first, np.stack([as_complex(row) for row in source]), confidence)
    seen = np.stack([as_complex(bent(first + i, row)) for i, row in enumerate(corners)])
    return PlaneTrack(first, whole(seen, confidence, lambda trail: carrier.whole(trail, first)), confidence)


def _seen(frame: Frame, size: Size, stage: OpticsStage | None) -> Seen:
    """A frame's luma at straightened points; 0 where it has none."""
    luma = np.maximum(upright_luma(frame, size), 1)

    def at(points: Floats) -> NDArray[np.uint8]:
        places = points.reshape(-1, 2)
        there = (places if stage is None else stage.points(frame.number, places)).reshape(points.shape)
        maps = np.clip(there, -1e4, 1e5).astype(np.float32)
        return np.asarray(cv2.remap(luma, maps[..., 0], maps[..., 1], cv2.INTER_LINEAR, borderValue=0))

    return at


def flat_thing_document(track: PlaneTrack, treatment: Treatment, info: ClipInfo, times: Floats) -> dict[str, Any]:
    """The corners per frame, clockwise from the first, in the source and, with a lens, on the straight plate."""
    plates, range_ = None, (track.first, track.first + len(track.corners) - 1)
    if treatment.optics.lens is not None:
        plates = plates_of(treatment, info.display, info.name, range_)
    frames = []
    for i, corners in enumerate(track.corners):
        number, source = track.first + i, np.stack([corners.real, corners.imag], -1)
        row = {
            "frame": number,
            "time": round(float(times[number] - times[0]), 6),
            "confidence": round(float(track.confidence[i]), 4),
            "source": source.round(3).tolist(),
        }
        frames.append(row | ({"plate": plates.at(number).from_source(source).round(3).tolist()} if plates else {}))
    size = {"width": info.display.width, "height": info.display.height}
    plate_size = {"plate": {"width": plates.size.width, "height": plates.size.height}} if plates else {}
    return {"clip": info.name, "source": size, **plate_size, "frames": frames}


def flat_thing_csv(document: dict[str, Any]) -> str:
    """The same as a table."""
    spaces = [space for space in ("source", "plate") if space in document]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    names = [f"{space}_{corner}_{axis}" for space in spaces for corner in range(1, 5) for axis in "xy"]
    writer.writerow(["frame", "time", "confidence", *names])
    for row in document["frames"]:
        places = [value for space in spaces for corner in row[space] for value in corner]
        writer.writerow([row["frame"], row["time"], row["confidence"], *places])
    return out.getvalue()
