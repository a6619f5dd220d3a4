"""What is known about a clip from its file: size, times of all frames, tags, sound.

Times come from the packets, sorted into presentation order, without decoding a picture; the count is
confirmed while the proxy is made, since a damaged packet may give no frame.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av.error
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import UnreadableVideoError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.orientation import quarter_turns


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

    Raises NotVideoError, MediaError as `open_input`, UnreadableVideoError when no frame decodes.
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
        sound = container.streams.audio[0].codec_context.name if container.streams.audio else None
        pixel_format, depth = first.format.name, first.format.components[0].bits
        codec = stream.codec_context.name
        time_base = Fraction(stream.time_base or Fraction(1, 90000))
        fallback_rate = float(stream.average_rate or stream.guessed_rate or 25)
        times = _packet_times(path)
    if len(times) == 0:
        raise _unreadable(path)
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
    )
    return info, times


def _packet_times(path: Path) -> NDArray[np.float64]:
    pts: list[int] = []
    with open_input(path) as container:
        stream = container.streams.video[0]
        base = float(stream.time_base or 1)
        try:
            for packet in container.demux(stream):
                stamp = packet.dts if packet.pts is None else packet.pts
                if packet.size and not packet.is_discard:
                    pts.append(len(pts) if stamp is None else stamp)
        except av.error.FFmpegError:
            pass  # a truncated file keeps the frames before the break
    return np.asarray(np.unique(np.array(pts, np.int64)) * base, np.float64)


def _unreadable(path: Path) -> UnreadableVideoError:
    return UnreadableVideoError(
        f"{path.name}: no picture could be decoded from this file. It is damaged or was cut off; "
        "copy it again from the camera."
    )
