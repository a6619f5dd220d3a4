"""Decoding: a stream of upright frames as planes at native depth, in presentation order.

A frame number is the position in presentation order, 0-based, and agrees with `probe`'s times: the
reader starts at a frame by seeking to the key frame before its time and discarding up to it. Frames
are yielded one by one; nothing is kept.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av.video.frame
import numpy as np
from av.video.reformatter import Colorspace
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, UnreadableVideoError
from keen_horizon.core.media.chroma import turned_site
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.deinterlacing import whole_pictures
from keen_horizon.core.media.footage import Footage, Source, footage_of
from keen_horizon.core.media.numbered import USUAL_RATE, as_planes, is_numbered, numbered
from keen_horizon.core.media.orientation import upright
from keen_horizon.core.media.stored import Plane, Stored, Tags, decoded_pictures, stored_picture

MOST_HELD = 12  # pictures missing at the end that the last one stands in for: half a second of film
_MARGINS_S = (0.0, 2.0, 12.0)  # before a frame, from where to decode; files without an index land after what was asked


@dataclass(frozen=True)
class Frame:
    """One upright picture: planes Y, U, V (rows, columns), chroma at its own size, native depth; and `alpha`, sized
    and deep as Y, all bits set where the picture covers, where the file has it.

    `time` is exact, in seconds on the file's own clock. A `repeated` picture stands in for a damaged one.
    """

    number: int
    time: Fraction
    planes: tuple[Plane, ...]
    bit_depth: int
    tags: Tags
    repeated: bool = False
    alpha: Plane | None = None

    @property
    def coverage(self) -> Plane:
        """The alpha plane; all covered where there is none."""
        return np.full_like(self.luma, (1 << self.bit_depth) - 1) if self.alpha is None else self.alpha

    @property
    def luma(self) -> Plane:
        """The Y plane."""
        return self.planes[0]

    def luma8(self) -> NDArray[np.uint8]:
        """The Y plane at 8 bits, for analysis."""
        if self.bit_depth == 8:
            return np.asarray(self.luma, np.uint8)
        return (self.luma >> (self.bit_depth - 8)).astype(np.uint8)


def read_frames(
    source: Source, first: int = 0, last: int | None = None, times: NDArray[np.float64] | None = None
) -> Iterator[Frame]:
    """Yield frames `first` ... `last` (inclusive; None: to the end).

    `times` (N,) from `probe` numbers the frames by their times and lets a reader that starts late seek
    instead of decoding from the start. A file that breaks off ends the stream early. Raises
    UnreadableVideoError when not one frame comes, MediaError when the picture's size changes.
    """
    footage = footage_of(source)
    if is_numbered(footage.path):
        yield from _numbered_frames(footage, first, last)
        return
    yielded = 0
    for frame in _from(footage, first, times):
        if last is not None and frame.number > last:
            break
        if frame.number >= first:
            yielded += 1
            yield frame
    if not yielded:
        raise UnreadableVideoError(
            f"{footage.path.name}: frame {first} could not be decoded. The file is damaged there; "
            "move the in point or copy the file again."
        )


def _numbered_frames(footage: Footage, first: int, last: int | None) -> Iterator[Frame]:
    """Frames of numbered pictures: those that are there."""
    pictures = numbered(footage.path)
    rate = footage.reading.rate or pictures.rate or USUAL_RATE
    tags = Tags(pictures.primaries, pictures.transfer, int(Colorspace.ITU709), 1)
    size: tuple[int, ...] | None = None
    damage: UnreadableVideoError | None = None
    for index in pictures.from_frame(first):
        number = pictures.numbers[index]
        if last is not None and number > last:
            break
        try:
            picture = pictures.picture(index)
        except UnreadableVideoError as error:
            damage = error  # one damaged picture is passed over
            continue
        size = size or picture.shape
        if picture.shape != size:
            raise MediaError(f"{footage.path.name}: {pictures.entries[index]} has another size than those before.")
        planes, alpha, depth = as_planes(picture)
        yield Frame(max(number, first), max(number, first) / rate, planes, depth, tags, alpha=alpha)
    if size is None and damage is not None:
        raise damage


def _from(footage: Footage, first: int, times: NDArray[np.float64] | None) -> Iterator[Frame]:
    """Frames from `first` or an earlier one on: where seeking lands too late, from further back."""
    if times is None or first < 8:
        yield from _frames_after(footage, None, times)
        return
    for margin in _MARGINS_S:
        moment = float(times[first - 1 - footage.reading.pictures_per_frame]) - margin
        frames = _frames_after(footage, moment, times)
        opening = next(frames, None)
        if opening is not None and opening.number <= first:
            yield opening
            yield from frames
            return
        frames.close()
        if moment <= times[0]:
            return
    yield from _frames_after(footage, None, times)


def _frames_after(footage: Footage, moment: float | None, times: NDArray[np.float64] | None) -> Generator[Frame]:
    """Frames from the key frame before `moment` (seconds; None: the file's first) on, numbered by `times`."""
    with open_input(footage.path) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        timed = times is not None and container.format.name != "avi"
        if timed and moment is not None:
            container.seek(int(moment / float(stream.time_base)), stream=stream, backward=True)
        decoded = _of_one_size(footage.path, decoded_pictures(container, stream))
        for count, stored in enumerate(whole_pictures(map(stored_picture, decoded), footage.reading)):
            number = count
            if timed and times is not None and stored.time is not None:
                number = int(np.abs(times - float(stored.time)).argmin())
            yield _frame(stored, number, footage.reading.site)


def _of_one_size(path: Path, decoded: Iterator[Any]) -> Iterator[Any]:
    size: tuple[int, int] | None = None
    for raw in decoded:
        size = size or (raw.width, raw.height)
        if (raw.width, raw.height) != size:
            raise _other_size(path, size, raw)
        yield raw


def _other_size(path: Path, size: tuple[int, int], raw: av.video.frame.VideoFrame) -> MediaError:
    return MediaError(
        f"{path.name}: its picture changes from {size[0]}×{size[1]} to {raw.width}×{raw.height} pixels at "
        f"{float(raw.time or 0):.2f} s. Split the file there, or export it in one size."
    )


def gapless(
    frames: Iterator[Frame], first: int, times: NDArray[np.float64], last: int | None = None
) -> Iterator[Frame]:
    """Every frame number from `first` once: a picture that could not be decoded repeats its neighbour.

    With `last` also up to there, where a few are missing at the end; where many are, the file breaks off.
    """
    expected = first
    previous: Frame | None = None
    for frame in frames:
        if frame.number < expected:
            continue
        for number in range(expected, frame.number):
            yield _standing_in(previous or frame, number, times)
        yield frame
        previous, expected = frame, frame.number + 1
    if previous is not None and last is not None and last - expected < MOST_HELD:
        for number in range(expected, last + 1):
            yield _standing_in(previous, number, times)


def _standing_in(frame: Frame, number: int, times: NDArray[np.float64]) -> Frame:
    moment = Fraction(float(times[number])).limit_denominator(1_000_000)
    return replace(frame, number=number, time=moment, repeated=True)


def read_frame(source: Source, number: int, times: NDArray[np.float64] | None = None) -> Frame:
    """One exact frame."""
    return next(read_frames(source, number, number, times))


def _frame(stored: Stored, number: int, site: int) -> Frame:
    """A stored picture, upright."""
    planes = tuple(upright(plane, stored.turns) for plane in stored.planes)
    alpha = None if stored.alpha is None else upright(stored.alpha, stored.turns)
    tags = replace(stored.tags, site=turned_site(site, stored.turns))
    return Frame(number, stored.time or Fraction(0), planes, stored.depth, tags, alpha=alpha)
