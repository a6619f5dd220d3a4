"""How a file's pictures are read: what it says of its fields, what its pictures show, and what an editor asks for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.fields import Seen, looked_at
from keen_horizon.core.media.footage import Reading
from keen_horizon.core.media.stored import decoded_pictures

LOOKS, LOOKED_AT = 3, 10  # places in a clip, and pictures in each, whose fields are looked at
MISSED_FIELDS = 0.9  # of the packets between two pictures that have none of their own: fields in packets of their own


@dataclass(frozen=True, kw_only=True)
class Asked:
    """How an editor wants the pictures read, where what the file tells or shows is wrong.

    `fields` is which field comes first, or "none" for whole pictures; `every_field` a picture a field, or a pair;
    `rate` how many numbered pictures are shown a second; `camera` whether they show a frame or all around.
    """

    fields: Literal["as found", "none", "top", "bottom"] = "as found"
    every_field: bool | None = None
    rate: float | None = None
    camera: Literal["as found", "frame", "sphere"] = "as found"

    @staticmethod
    def from_json(data: dict[str, Any] | None) -> Asked:
        """The reverse of `dataclasses.asdict`; nothing asked where there is none."""
        return Asked(**(data or {}))


AS_FOUND = Asked()


@dataclass(frozen=True, kw_only=True)
class Scan:
    """What is known of a file's fields: `told` as the file says, `seen` as its pictures show, and whether what was
    decided is by hand; `film` where film was stretched to fields. Of numbered pictures: whether their rate was told by
    nobody, and how many numbers are missing.
    """

    told: Literal["top", "bottom"] | None = None
    seen: Literal["top", "bottom", "whole"] | None = None
    by_hand: bool = False
    film: bool = False
    rate_taken: bool = False
    missing: int = 0

    @staticmethod
    def from_json(data: dict[str, Any] | None) -> Scan:
        """The reverse of `dataclasses.asdict`."""
        return Scan(**(data or {}))


def fields_told(first: Any, stream: Any) -> Literal["top", "bottom"] | None:
    """Which field comes first, as the file says: FFmpeg's orders 2 ... 5 name the field stored, and shown, first."""
    order = int(stream.codec_context.field_order)
    if not first.interlaced_frame and order < 2:
        return None
    shown_first = {2: "top", 3: "bottom", 4: "bottom", 5: "top"}
    usual = "bottom" if stream.codec_context.name == "dvvideo" else "top"
    return shown_first.get(order, usual)  # type: ignore[return-value]


def fields_seen(path: Path, times: NDArray[np.float64], told: bool) -> tuple[Seen, bool]:
    """What the pictures in a few places of a clip show of their fields, and whether each field has a packet.

    `told` is whether the file says that it has fields; `times` are those of its packets.
    """
    with open_input(path) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        opening = _next_pictures(container, stream)
        seen = looked_at(opening)
        starts = [float(frame.time) for frame in opening if frame.pts is not None]
        apart = told and in_packets_of_their_own(starts, times)
        if apart:
            times = times[::2]  # what follows a frame's second field is not its first one
        if len(times) > LOOKED_AT:
            for place in range(1, LOOKS):
                moment = float(times[len(times) * place // LOOKS])
                container.seek(int(moment / float(stream.time_base)), stream=stream, backward=True)
                seen = seen.plus(looked_at(_next_pictures(container, stream)))
    return seen, apart


def _next_pictures(container: Any, stream: Any) -> list[Any]:
    """Some decoded frames of one kind from where the container stands."""
    return list(islice(_alike(decoded_pictures(container, stream)), LOOKED_AT))


def _alike(frames: Iterator[Any]) -> Iterator[Any]:
    """Frames for as long as their size and format stay."""
    opening = None
    for frame in frames:
        kind = frame.width, frame.height, frame.format.name
        opening = opening or kind
        if kind != opening:
            return
        yield frame


def in_packets_of_their_own(starts: list[float], times: NDArray[np.float64]) -> bool:
    """Whether each field has a packet, so that there are two of them to a picture."""
    if len(starts) < 3:
        return False
    inside = int(((times >= starts[0] - 1e-6) & (times < starts[-1] - 1e-6)).sum())
    pictures = len(starts) - 1
    return inside - pictures >= MISSED_FIELDS * pictures


def decided(told: Literal["top", "bottom"] | None, seen: Seen, asked: Asked, site: int) -> tuple[Scan, Reading]:
    """How the pictures are read: as asked, else as they show, else as the file says."""
    shown = seen.by_shake or (seen.by_motion if told else None)
    if told and seen.film_in_fields:
        shown = told  # three of its five frames are whole, two are woven of two pictures
    first = told if shown is None else None if shown == "whole" else shown
    by_hand = asked.fields != "as found"
    if by_hand:
        first = None if asked.fields == "none" else asked.fields  # type: ignore[assignment]
    every = seen.fast if asked.every_field is None else asked.every_field
    scan = Scan(told=told, seen=shown, by_hand=by_hand, film=bool(first) and seen.film_in_fields)
    return scan, Reading(first_field=first, every_field=bool(first) and every, site=site)


def picture_times(times: NDArray[np.float64], step: float, reading: Reading) -> NDArray[np.float64]:
    """When the pictures made of stored frames are shown: a frame's second field halfway to the next frame."""
    if reading.pictures_per_frame == 1:
        return times
    following = np.append(times[1:], times[-1] + step)
    return np.column_stack([times, (times + following) / 2]).ravel()
