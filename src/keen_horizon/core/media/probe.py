"""What is known about a clip from its file: size, times of all frames, tags, sound.

Times come from the packets, sorted into presentation order, without decoding a picture; the count is
confirmed while the proxy is made, since a damaged packet may give no frame. Where pictures are made of fields (see
`fields.py`), frames and times are those of the pictures that are made of them.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.error
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, RangeError, UnreadableVideoError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.carried import Carried, carried_by
from keen_horizon.core.media.chroma import site_told
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.fields import Seen, may_have_fields
from keen_horizon.core.media.footage import Footage, Reading
from keen_horizon.core.media.numbered import USUAL_RATE, is_numbered, numbered, size_of
from keen_horizon.core.media.orientation import quarter_turns
from keen_horizon.core.media.packets import frames_missing, packet_times, usual_rate, usual_step
from keen_horizon.core.media.scanning import (
    AS_FOUND,
    Asked,
    Scan,
    decided,
    fields_seen,
    fields_told,
    picture_times,
)
from keen_horizon.core.media.spherical import Camera, Told, camera_of, has_shape_of_sphere, spherical_told
from keen_horizon.core.media.stored import decoded_pictures, has_alpha
from keen_horizon.core.media.timecode import Timecode

SMALLEST_SIDE, LARGEST_SIDE = 16, 16384  # as a treatment's output (see treatment.edges); resampling ends at 32767
MOST_STRETCHED = 32
NUMBERED = "pictures"  # what numbered pictures have for a container


@dataclass(frozen=True)
class ClipInfo:
    """One media file, as an editor sees it: upright, with square pixels where `display` is meant.

    A `camera` sees a frame, or a sphere; `spherical` is what the file tells of that.

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
    stored_rate: Fraction = Fraction(0)
    reading: Reading = field(default_factory=Reading)
    asked: Asked = AS_FOUND
    scan: Scan = field(default_factory=Scan)
    carried: Carried = field(default_factory=Carried)
    camera: Camera = "frame"
    spherical: Told | None = None

    def footage(self, path: Path) -> Footage:
        """The clip's file, read as found or asked."""
        return Footage(path, self.reading)

    def check_frame(self, number: int) -> None:
        """Whether a frame is one of the clip's. Raises RangeError."""
        if not 0 <= number < self.frames:
            raise RangeError(f"{self.name}: there is no frame {number}; the last one is {self.frames - 1}.")

    @property
    def usual_rate(self) -> float:
        """Pictures a second where none is missing; `rate` is that of the whole clip, holes included."""
        return float(self.stored_rate * self.reading.pictures_per_frame) or self.rate

    @property
    def timecode(self) -> Timecode | None:
        """The timecode of frame 0, counted as finely as there are frames."""
        if self.carried.timecode is None:
            return None
        found = Timecode.read(self.carried.timecode, self.stored_rate)
        return found and found.finer(self.reading.pictures_per_frame)

    @property
    def may_be_sphere(self) -> bool:
        """Whether only the editor can tell if it is a sphere: it has the shape of one, and its file says nothing."""
        return self.spherical is None and self.asked.camera == "as found" and has_shape_of_sphere(self.display)

    @property
    def may_have_fields(self) -> bool:
        """Whether pictures of this size and rate are ever made of fields."""
        if self.carried.container == NUMBERED:
            return False
        stored = self.coded.width if self.turns % 2 else self.coded.height
        return may_have_fields(stored, float(self.stored_rate or self.rate))

    @property
    def scan_note(self) -> str | None:
        """How pictures that a file keeps as fields are read."""
        if self.carried.container == NUMBERED:
            taken = ", as nothing tells otherwise" if self.scan.rate_taken else ""
            return f"Numbered pictures, {self.rate:.5g} a second{taken}."
        first, per = self.reading.first_field, "field" if self.reading.every_field else "frame"
        hand = ", set by hand" if self.scan.by_hand else ""
        if first:
            film = " Film of 24 pictures a second was stretched to these fields." if self.scan.film else ""
            return f"Interlaced, {first} field first{hand}: read as one picture a {per}.{film}"
        if self.scan.by_hand:
            return "Read as whole pictures, set by hand."
        if self.scan.told:
            return "Flagged as interlaced, but both fields show one moment: read as whole pictures."
        return None

    @property
    def notes(self) -> tuple[str, ...]:
        """What to say of a file before it is worked on."""
        return (*self.troubles, self.scan_note) if self.scan_note else self.troubles

    @property
    def troubles(self) -> tuple[str, ...]:
        """What to say of a file that can be worked on, but not as a whole."""
        sound = (
            "Its sound is of a kind that cannot be read here; it is worked on without." if self.sound_unread else None
        )
        missing = (
            f"Of its pictures {self.scan.missing} are missing; the ones before stand in for them."
            if self.scan.missing
            else None
        )
        around = (
            "The file says that it shows all around, in a projection that cannot be read here; it is worked on as a "
            "frame. Export it equirectangular to have it steadied all around."
            if self.spherical == "other" and self.camera == "frame" and self.asked.camera == "as found"
            else None
        )
        return tuple(note for note in (self.broken_note, sound, missing, around) if note)

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
        exact: dict[str, Any] = {name: str(getattr(self, name)) for name in _EXACT}
        rate = self.reading.rate and str(self.reading.rate)
        return asdict(self) | exact | {"reading": asdict(self.reading) | {"rate": rate}}

    @staticmethod
    def from_json(data: dict[str, Any]) -> ClipInfo:
        """The reverse of `to_json`."""
        exact = {name: Fraction(data[name]) for name in _EXACT if name in data}
        parts = {
            "coded": Size(**data["coded"]),
            "reading": Reading.from_json(data.get("reading")),
            "asked": Asked.from_json(data.get("asked")),
            "scan": Scan.from_json(data.get("scan")),
            "carried": Carried.from_json(data.get("carried")),
        }
        return ClipInfo(**(data | parts | exact))


_EXACT = ("pixel_aspect", "time_base", "stored_rate")


def probe(path: Path, asked: Asked = AS_FOUND) -> tuple[ClipInfo, NDArray[np.float64]]:
    """Read a clip's facts and its frame times (N,), seconds on the file's own clock; `asked` is how to read it.

    Raises NotVideoError, MediaError as `open_input` and for sizes that cannot be worked on, UnreadableVideoError when
    no frame decodes.
    """
    if path.exists() and is_numbered(path):
        return _probed_pictures(path, asked)
    with open_input(path) as container:
        stream = container.streams.video[0]
        try:
            first = next(decoded_pictures(container, stream), None)
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
        told_rates = [Fraction(rate) for rate in (stream.average_rate, stream.guessed_rate) if rate]
        guessed = told_rates[0] if told_rates else Fraction(25)
        declared, seconds = int(stream.frames), float(container.duration or 0) / av.time_base
        told = fields_told(first, stream)
        site = site_told(container, pixel_format, int(first.color_range) == 2)
        carried = carried_by(path, container, first, has_alpha(first.format))
        spherical = spherical_told(first)
    times, packets, end = packet_times(path)
    if len(times) == 0:
        raise _unreadable(path)
    _check_size(path, Size(width, height), 1 / aspect if turns % 2 else aspect)
    seen = Seen()
    if told or (spherical is None and may_have_fields(first.height, float(guessed))):
        seen, apart = fields_seen(path, times, told is not None)
        if apart:
            times, packets, declared = times[::2], -(-packets // 2), -(-declared // 2)
    scan, reading = decided(told, seen, asked, site)
    shape = Size(round(width * (1 / aspect if turns % 2 else aspect)), height)
    missing = declared - packets if declared else frames_missing(seconds - end, usual_step(times, guessed))
    promised = len(times) + missing
    stored_rate = guessed if len(times) < 2 else usual_rate(times, told_rates)
    times = picture_times(times, usual_step(times, guessed), reading)
    step = usual_step(times, guessed)
    steps = np.diff(times)
    duration = float(times[-1] - times[0] + step)
    info = ClipInfo(
        name=path.name,
        coded=Size(width, height),
        pixel_aspect=1 / aspect if turns % 2 else aspect,
        turns=turns,
        time_base=time_base / reading.pictures_per_frame,
        frames=len(times),
        rate=len(times) / duration if duration > 0 else float(guessed),
        duration=duration,
        variable_rate=bool(len(steps) and (np.abs(steps - step) > max(0.0021, 0.1 * step)).any()),
        codec=codec,
        pixel_format=pixel_format,
        bit_depth=depth,
        sound=sound,
        sound_unread=sound_unread,
        promised=promised * reading.pictures_per_frame,
        stored_rate=stored_rate,
        reading=reading,
        asked=asked,
        scan=scan,
        carried=carried,
        camera=camera_of(path.name, asked.camera, spherical, shape),
        spherical=spherical,
    )
    return info, times


def _probed_pictures(path: Path, asked: Asked) -> tuple[ClipInfo, NDArray[np.float64]]:
    """Facts and times of numbered pictures."""
    pictures = numbered(path)
    opening = pictures.picture(0)
    size = size_of(opening)
    _check_size(path, size, Fraction(1))
    wanted = Fraction(asked.rate).limit_denominator(1001) if asked.rate else None
    rate = wanted or pictures.rate or USUAL_RATE
    times = np.arange(pictures.frames) / float(rate)
    clear, bits = opening.shape[2] == 4, 8 * opening.dtype.itemsize
    info = ClipInfo(
        name=path.name,
        coded=size,
        pixel_aspect=Fraction(1),
        turns=0,
        time_base=1 / rate,
        frames=pictures.frames,
        rate=float(rate),
        duration=pictures.frames / float(rate),
        variable_rate=False,
        codec=pictures.codec,
        pixel_format=f"rgb{'a' if clear else ''}{(3 + clear) * bits}",
        bit_depth=bits,
        sound=None,
        promised=pictures.frames,
        stored_rate=rate,
        reading=Reading(rate=rate),
        asked=asked,
        scan=Scan(rate_taken=wanted is None and pictures.rate is None, missing=pictures.frames - len(pictures.numbers)),
        carried=Carried(container=NUMBERED, alpha=clear, transfer=pictures.transfer),
        camera=camera_of(path.name, asked.camera, None, size),
    )
    return info, times


def with_carried(info: ClipInfo, path: Path) -> ClipInfo:
    """Facts that were kept before files were asked what else they carry, completed from the clip's file."""
    return info if info.carried.container else replace(info, carried=probe(path)[0].carried)


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


def _unreadable(path: Path) -> UnreadableVideoError:
    return UnreadableVideoError(
        f"{path.name}: no picture could be decoded from this file. It is damaged or was cut off; "
        "copy it again from the camera."
    )
