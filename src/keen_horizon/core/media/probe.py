"""What is known about a clip from its file: size, times of all frames, tags, sound.

Times come from the packets, sorted into presentation order, without decoding a picture; the count is
confirmed while the proxy is made, since a damaged packet may give no frame.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.error
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, UnreadableVideoError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.orientation import quarter_turns

MISSING_SECONDS = 1.0
SMALLEST_SIDE, LARGEST_SIDE = 16, 16384  # as a treatment's output (see treatment.framing); resampling ends at 32767
MOST_STRETCHED = 32


@dataclass(frozen=True)
class ClipInfo:
    """One media file, as an editor sees it: upright, with square pixels where `display` is meant.

    `coded` is the upright size in stored pixels, `pixel_aspect` the width of one of them over its
    height. Times are seconds; `rate` is frames per second on average.
    """

    name: str
    coded: Size
    pixel_aspect: Fraction
    turns: int
    time_base: Fraction
    frames: int
    rate: float
    duration: float
    variable_rate: bool
    codec: str
    pixel_format: str
    bit_depth: int
    sound: str | None
    promised: int = 0
    sound_unread: bool = False

    @property
    def notes(self) -> tuple[str, ...]:
        """What to say of a file that can be worked on, but not as a whole."""
        sound = (
            "Its sound is of a kind that cannot be read here; it is worked on without." if self.sound_unread else None
        )
        return tuple(note for note in (self.broken_note, sound) if note)

    @property
    def broken_note(self) -> str | None:
        """What to say of a file that ends before its header says."""
        if self.promised <= self.frames:
            return None
        return (
            f"The file breaks off: {self.frames} of its {self.promised} frames are there and can be worked on. "
            "Copy it again from the camera for the rest."
        )

    @property
    def display(self) -> Size:
        """The upright size with square pixels; height is kept, as the trade does."""
        return Size(max(1, round(self.coded.width * self.pixel_aspect)), self.coded.height)

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self) | {"pixel_aspect": str(self.pixel_aspect), "time_base": str(self.time_base)}

    @staticmethod
    def from_json(data: dict[str, Any]) -> ClipInfo:
        """The reverse of `to_json`."""
        exact = {name: Fraction(data[name]) for name in ("pixel_aspect", "time_base")}
        return ClipInfo(**(data | {"coded": Size(**data["coded"])} | exact))


def probe(path: Path) -> tuple[ClipInfo, NDArray[np.float64]]:
    """Read a clip's facts and its frame times (N,), seconds on the file's own clock.

    Raises NotVideoError, MediaError as `open_input` and for sizes that cannot be worked on, UnreadableVideoError when
    no frame decodes.
    """
    with open_input(path) as container:
        stream = container.streams.video[0]
        try:
            first = next(container.decode(stream), None)
        except (av.error.FFmpegError, ValueError) as error:
            raise _unreadable(path) from error
        if first is None:
            raise _unreadable(path)
        turns = quarter_turns(first)
        width, height = (first.height, first.width) if turns % 2 else (first.width, first.height)
        aspect = Fraction(stream.sample_aspect_ratio or 1) or Fraction(1)
        heard = container.streams.audio[0].codec_context if container.streams.audio else None
        sound = heard.name if heard else None
        sound_unread = bool(container.streams.audio) and heard is None
        pixel_format, depth = first.format.name, first.format.components[0].bits
        codec = stream.codec_context.name
        time_base = Fraction(stream.time_base or Fraction(1, 90000))
        fallback_rate = float(stream.average_rate or stream.guessed_rate or 25)
        declared, seconds = int(stream.frames), float(container.duration or 0) / av.time_base
        times, packets, end = _packet_times(path)
    if len(times) == 0:
        raise _unreadable(path)
    _check_size(path, Size(width, height), 1 / aspect if turns % 2 else aspect)
    steps = np.diff(times)
    step = float(np.median(steps)) if len(steps) else 1 / fallback_rate
    duration = float(times[-1] - times[0] + step)
    info = ClipInfo(
        name=path.name,
        coded=Size(width, height),
        pixel_aspect=1 / aspect if turns % 2 else aspect,
        turns=turns,
        time_base=time_base,
        frames=len(times),
        rate=len(times) / duration if duration > 0 else fallback_rate,
        duration=duration,
        variable_rate=bool(len(steps) and (np.abs(steps - step) > max(0.0021, 0.1 * step)).any()),
        codec=codec,
        pixel_format=pixel_format,
        bit_depth=depth,
        sound=sound,
        sound_unread=sound_unread,
        promised=len(times) + (declared - packets if declared else _frames_missing(seconds - end, step)),
    )
    return info, times


def _check_size(path: Path, coded: Size, aspect: Fraction) -> None:
    """Raises MediaError for pictures that nothing here can work on, and that only a mistake makes."""
    sides = (coded.width, coded.height, round(coded.width * aspect))
    if min(sides) < SMALLEST_SIDE or max(sides) > LARGEST_SIDE or max(sides) > MOST_STRETCHED * min(sides):
        raise MediaError(
            f"{path.name}: its picture is {sides[2]}×{coded.height} pixels. Sides of {SMALLEST_SIDE} to {LARGEST_SIDE} "
            f"pixels can be worked on, one {MOST_STRETCHED} times the other at most. Export it in another size."
        )


def shortened(info: ClipInfo, times: NDArray[np.float64], frames: int) -> tuple[ClipInfo, NDArray[np.float64]]:
    """The facts and times of a clip of which only the first `frames` frames can be decoded."""
    if frames == info.frames:
        return info, times
    short = replace(
        info, frames=frames, duration=info.duration * frames / info.frames, promised=max(info.promised, info.frames)
    )
    return short, times[:frames]


def _packet_times(path: Path) -> tuple[NDArray[np.float64], int, float]:
    """The shown pictures' times, the number of packets of pictures, and where the last packet of any stream lies."""
    pts: list[int] = []
    packets, end = 0, 0.0
    with open_input(path) as container:
        stream = container.streams.video[0]
        base = float(stream.time_base or 1)
        try:
            for packet in container.demux():
                stamp = packet.dts if packet.pts is None else packet.pts
                if stamp is not None:
                    end = max(end, float(stamp * packet.time_base))
                if packet.stream.index != stream.index:
                    continue
                packets += stamp is not None or packet.size > 0
                if packet.size and not packet.is_discard:
                    pts.append(len(pts) if stamp is None else stamp)
        except av.error.FFmpegError:
            pass  # a truncated file keeps the frames before the break
    return np.asarray(np.unique(np.array(pts, np.int64)) * base, np.float64), packets, end


def _frames_missing(seconds: float, step: float) -> int:
    """Frames between the last packet and the length in the header, of files that do not count their frames."""
    return round(seconds / step) if seconds > MISSING_SECONDS else 0


def _unreadable(path: Path) -> UnreadableVideoError:
    return UnreadableVideoError(
        f"{path.name}: no picture could be decoded from this file. It is damaged or was cut off; "
        "copy it again from the camera."
    )
