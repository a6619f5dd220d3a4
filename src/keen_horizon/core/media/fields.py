"""Telling interlaced pictures, which show the even and the odd lines of a picture at two moments, a field each.

What a file says of its fields is not always so: film is often stored as "interlaced" with both fields of one
moment, and combs come unflagged. So pictures are looked at. Let v be how far the picture moved from one frame's top
field to the next one's, and d how far from a frame's top field to its bottom field. Fields of one moment have
d = 0; where the top field is the earlier d = v / 2, where the bottom field is d = -v / 2. So d . v / v . v tells,
and unlike comparing neighbouring lines it is not misled by pictures that themselves move up or down by a line.

A picture that moves as a whole is taken for granted there. Where things move by themselves, v and d may be those of
different ones; so it is also asked whether both fields look alike wherever something changes (see `_parts`). That
tells one moment from two, but not which field is the earlier.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import lru_cache
from typing import Any, Literal

import av.error
import av.filter
import cv2
import numpy as np
from numpy.typing import NDArray

Picture = NDArray[np.float32]
Point = NDArray[np.float64]

LINES = (range(1, 609), range(1072, 1153))  # of standard and of high definition; nothing between or above has fields
FASTEST = 31.0  # stored pictures a second; likewise
LOOKED_AT_WIDTH = 480
CLEAR = 5  # pictures that must agree before they count against what a file says
SHARE = 0.8  # of the pictures that tell anything
LEAST_PX = 1.0  # of motion between frames, that tells anything
HALF, NONE = (0.3, 0.7), 0.15  # d . v / v . v of fields half a frame apart, and of fields of one moment
LEFT_OVER = 0.1  # of the motion's energy, that a fit may leave
STRETCHED = 0.1  # of the fields shown twice, of either kind: 24 pictures in 60 fields repeat 1 in 5 of both
FAST_PX = 2.0  # between two fields: less, and a frame's second picture hardly differs from its first (a choice)
LEAST_RESPONSE = 0.1  # of a phase correlation that found a motion (1: the same picture, moved)
PART_PX = 16  # of the small fields: parts that are looked at by themselves
CHANGED = 6.0  # levels, mean difference between a part's fields of two frames: something moved there
ALIKE = 0.6  # of the difference to the nearest other frame's field, at most, between fields of one moment
LEAST_PARTS = 20  # that changed, to say anything
# of them, alike: on 40 photographs with a mover at 576 lines 0.99 of one moment, 0.36 at most of two; on ten at 1080
# lines 1.0, 0.58
ONE_MOMENT, TWO = 0.9, 0.6


Order = Literal["top", "bottom", "whole"]


@dataclass(frozen=True)
class Seen:
    """What some pictures show: `motions` are pairs of v and d, rows (vx, vy, dx, dy) in px; `repeated` how often a
    field was shown again (top, bottom, neither); `parts` how many parts of the pictures changed from frame to frame,
    and in how many of these a frame's fields are alike.
    """

    motions: tuple[tuple[float, float, float, float], ...] = ()
    repeated: tuple[int, int, int] = (0, 0, 0)
    parts: tuple[int, int] = (0, 0)

    def plus(self, other: Seen) -> Seen:
        """Both together."""
        top, bottom, neither = (a + b for a, b in zip(self.repeated, other.repeated, strict=True))
        changed, alike = (a + b for a, b in zip(self.parts, other.parts, strict=True))
        return Seen((*self.motions, *other.motions), (top, bottom, neither), (changed, alike))

    @property
    def by_shake(self) -> Order | None:
        """What changes of the motion tell: enough to read a file otherwise than it says, or says nothing about.

        d = s v + c is fitted with c free, for patterns without detail across a line hide where their lines lie.
        """
        if len(self.motions) < CLEAR:
            return self._by_parts(None)
        rows = np.array(self.motions)
        rows -= rows.mean(0)
        steps, insides = rows[:, :2], rows[:, 2:]
        energy = float((steps**2).sum())
        if energy < LEAST_PX**2 * len(rows):
            return self._by_parts(None)
        slope = float((steps * insides).sum()) / energy
        left = float(((insides - slope * steps) ** 2).sum()) / energy
        return self._by_parts(_order(slope) if left <= LEFT_OVER else None)

    @property
    def by_motion(self) -> Order | None:
        """What the motions themselves tell, also where they are all the same: enough to check what a file says."""
        told = [_order((vx * dx + vy * dy) / (vx**2 + vy**2)) for vx, vy, dx, dy in self._moving]
        orders: tuple[Order, ...] = ("top", "bottom", "whole")
        for order in orders:
            if told.count(order) >= max(CLEAR, SHARE * (len(told) - told.count(None))):
                return self._by_parts(order)
        return self._by_parts(None)

    def _by_parts(self, order: Order | None) -> Order | None:
        """What motions tell, unless parts of the pictures say clearly that it is one moment, or that it is not."""
        changed, alike = self.parts
        if changed < LEAST_PARTS:
            return order
        if alike >= ONE_MOMENT * changed:
            return "whole"
        return None if order == "whole" and alike < TWO * changed else order

    @property
    def _moving(self) -> list[tuple[float, float, float, float]]:
        return [row for row in self.motions if np.hypot(*row[:2]) >= LEAST_PX]

    @property
    def fast(self) -> bool:
        """Whether pictures usually move so far between two fields that one picture a field is worth it."""
        lengths = [float(np.hypot(*row[:2])) for row in self.motions]
        return bool(lengths) and float(np.sqrt(np.mean(np.square(lengths)))) >= 2 * FAST_PX

    @property
    def film_in_fields(self) -> bool:
        """Whether fields are shown again as film of 24 pictures a second is stretched to 60 fields."""
        top, bottom, neither = self.repeated
        seen = max(1, top + bottom + neither)
        return top >= STRETCHED * seen and bottom >= STRETCHED * seen


def _order(share: float) -> Order | None:
    """What d / v along v means."""
    if HALF[0] <= share <= HALF[1]:
        return "top"
    if -HALF[1] <= share <= -HALF[0]:
        return "bottom"
    return "whole" if abs(share) <= NONE else None


def may_have_fields(height: int, rate: float) -> bool:
    """Whether pictures of this size and rate are ever made of fields."""
    return any(height in lines for lines in LINES) and rate <= FASTEST


def looked_at(frames: Iterable[Any]) -> Seen:
    """What consecutive decoded frames of one size say."""
    seen, graph, before = Seen(), None, None
    for raw in frames:
        graph = graph or _graph(raw)
        graph.push(raw)
        now = _fields_of(raw.to_ndarray(format="gray"))
        if before is not None:
            seen = seen.plus(_told(before, now)).plus(Seen(parts=_parts(before, now)))
        before = now
    if graph is None:
        return seen
    graph.push(None)
    told = [out.metadata for out in _pulled(graph)]
    tops, bottoms, neither = (
        round(float(told[-1][f"lavfi.idet.repeated.{name}"])) for name in ("top", "bottom", "neither")
    )
    return replace(seen, repeated=(tops, bottoms, neither))


def small_field(luma: NDArray[Any], parity: int) -> Picture:
    """The field of the lines from `parity` on, as many times smaller than the picture both ways."""
    height, width = luma.shape
    shrink = max(2, round(width / LOOKED_AT_WIDTH))
    size = (max(16, width // shrink), max(16, height // shrink))
    lines = np.ascontiguousarray(luma[parity::2])
    small: Picture = cv2.resize(lines, size, interpolation=cv2.INTER_AREA).astype(np.float32)
    return small


@dataclass(frozen=True)
class _Fields:
    """A frame's fields, `shrink` times smaller than the picture; and in `aligned` moved to the lines between them, and
    smoothed a little, since two fields sample different lines of one picture.
    """

    top: Picture
    bottom: Picture
    aligned: tuple[Picture, Picture]
    shrink: float


def _fields_of(luma: NDArray[Any]) -> _Fields:
    top, bottom = small_field(luma, 0), small_field(luma, 1)
    shrink = luma.shape[1] / top.shape[1]
    return _Fields(top, bottom, (_line_down(top, -0.5 / shrink), _line_down(bottom, 0.5 / shrink)), shrink)


def motion_between(one: Picture, other: Picture) -> Point | None:
    """How far (x, y) one field's picture lies from another's, in their pixels; None where they differ."""
    shift, response = cv2.phaseCorrelate(one.copy(), other.copy(), _window(one.shape))  # which it multiplies in place
    return np.array(shift) if response >= LEAST_RESPONSE else None


@lru_cache(maxsize=4)
def _window(shape: tuple[int, int]) -> Picture:
    return np.asarray(cv2.createHanningWindow(shape[::-1], cv2.CV_32F), np.float32)


def _told(before: _Fields, now: _Fields) -> Seen:
    """What a frame's fields and the next one's top field say."""
    step, inside = motion_between(before.top, now.top), motion_between(before.top, before.bottom)
    if step is None or inside is None:
        return Seen()
    vx, vy = step * now.shrink
    dx, dy = inside * now.shrink + (0.0, 1.0)  # the bottom field's lines lie one line lower
    return Seen(((float(vx), float(vy), float(dx), float(dy)),))


def _parts(before: _Fields, now: _Fields) -> tuple[int, int]:
    """Of two frames' fields, how many parts changed, and in how many of these each frame's fields are alike: much more
    so than one's bottom field and the other's top, which fields half a frame apart resemble as much.
    """
    (top, bottom), (next_top, next_bottom) = before.aligned, now.aligned
    changed = (_apart(top, next_top) + _apart(bottom, next_bottom)) / 2 >= CHANGED
    inside = (_apart(top, bottom) + _apart(next_top, next_bottom)) / 2
    across = np.minimum(_apart(bottom, next_top), _apart(top, next_bottom))
    alike = changed & (inside <= ALIKE * across)
    return int(changed.sum()), int(alike.sum())


def _line_down(field: Picture, rows: float) -> Picture:
    """A field moved down by part of a row, and smoothed."""
    move = np.array([[1, 0, 0], [0, 1, rows]], np.float32)
    moved = cv2.warpAffine(field, move, field.shape[::-1], flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(cv2.GaussianBlur(moved, (3, 3), 0), np.float32)


def _apart(one: Picture, other: Picture) -> Picture:
    """Mean difference of each part, levels."""
    rows, columns = (length // PART_PX for length in one.shape)
    whole = slice(rows * PART_PX), slice(columns * PART_PX)
    apart = cv2.absdiff(one[whole], other[whole])
    return np.asarray(cv2.resize(apart, (columns, rows), interpolation=cv2.INTER_AREA), np.float32)


def _graph(raw: Any) -> Any:
    """FFmpeg's filter that counts fields shown again."""
    graph = av.filter.Graph()
    graph.threads = 1
    source = graph.add_buffer(
        width=raw.width,
        height=raw.height,
        format=raw.format,
        time_base=Fraction(raw.time_base or Fraction(1, 90000)),
    )
    counter, sink = graph.add("idet"), graph.add("buffersink")
    source.link_to(counter)
    counter.link_to(sink)
    graph.configure()
    return graph


def _pulled(graph: Any) -> Iterator[Any]:
    while True:
        try:
            yield graph.pull()
        except (av.error.BlockingIOError, av.error.EOFError):
            return
