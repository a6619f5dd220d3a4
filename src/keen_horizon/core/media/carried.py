"""What a file carries besides its pictures: sound, subtitles, chapters, timecode, tags, light levels.

Read once when a clip arrives, so that an editor can be told what goes along with a render before it is made.
"""

from __future__ import annotations

import struct
from dataclasses import asdict, dataclass, field, replace
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

from av.sidedata.sidedata import Type

from keen_horizon.core.media.stored import is_full_range

TAGS = {
    "title": ("title",),
    "comment": ("comment",),
    "description": ("description", "synopsis"),
    "artist": ("artist", "author"),
    "copyright": ("copyright",),
    "creation_time": ("creation_time", "com.apple.quicktime.creationdate", "date_utc"),
    "date": ("date", "year"),
    "make": ("make", "com.apple.quicktime.make", "com.android.manufacturer"),
    "model": ("model", "com.apple.quicktime.model", "com.android.model"),
    "location": ("location", "com.apple.quicktime.location.iso6709", "location-eng"),
    "reel": ("reel_name", "reel", "material_package_name"),
}
LONGEST_TAG = 2000
KEPT_TO_ITSELF = 48  # FFmpeg's AVDISCARD_ALL: of MOV and MP4, the chapters' titles, read as chapters already

_DYNAMIC = {
    Type.DYNAMIC_HDR_PLUS: "scene-by-scene light levels (SMPTE ST 2094-40)",
    Type.DOVI_METADATA: "a second layer's light levels (RPU)",
    Type.DOVI_RPU_BUFFER: "a second layer's light levels (RPU)",
    Type.DYNAMIC_HDR_VIVID: "scene-by-scene light levels (CUVA)",
}


@dataclass(frozen=True, kw_only=True)
class SoundFacts:
    """One sound track; `codec` is None where it cannot be read."""

    codec: str | None
    channels: int = 0
    layout: str = ""
    rate: int = 0
    language: str = ""
    title: str = ""


@dataclass(frozen=True, kw_only=True)
class SubtitleFacts:
    """One track of subtitles."""

    codec: str
    language: str = ""
    title: str = ""


@dataclass(frozen=True, kw_only=True)
class Light:
    """Static light levels of HDR pictures (SMPTE ST 2086, CTA-861.3).

    `primaries` is R, G, B and white as CIE (x, y), `luminance` the mastering display's least and most, cd/m2;
    `content` the brightest sample and the brightest average, cd/m2. None where not told.
    """

    primaries: tuple[tuple[float, float], ...] | None = None
    luminance: tuple[float, float] | None = None
    content: tuple[int, int] | None = None

    @staticmethod
    def from_json(data: dict[str, Any] | None) -> Light | None:
        """The reverse of `dataclasses.asdict`."""
        if data is None:
            return None
        primaries = data["primaries"] and tuple((float(x), float(y)) for x, y in data["primaries"])
        pairs = (data[name] and tuple(data[name]) for name in ("luminance", "content"))
        luminance, content = pairs
        return Light(primaries=primaries, luminance=luminance, content=content)


@dataclass(frozen=True, kw_only=True)
class Carried:
    """Everything beside the pictures. `timecode` is that of the first stored frame; `others` names streams that have
    no place in a render; `bit_rate` is the pictures' own, bits a second; `transfer` what they say of theirs (ITU-T
    H.273, table 3; 2: nothing), `full_range` that they use all codes.
    """

    container: str = ""
    sounds: tuple[SoundFacts, ...] = ()
    subtitles: tuple[SubtitleFacts, ...] = ()
    chapters: int = 0
    timecode: str | None = None
    tags: dict[str, str] = field(default_factory=dict)
    light: Light | None = None
    transfer: int = 2
    full_range: bool = False
    dynamic: tuple[str, ...] = ()
    others: tuple[str, ...] = ()
    alpha: bool = False
    bit_rate: int | None = None

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)

    def without_file_time(self) -> Carried:
        """The same for a file whose own time says nothing about the clip."""
        return replace(self, tags={name: value for name, value in self.tags.items() if name != "file_time"})

    @staticmethod
    def from_json(data: dict[str, Any] | None) -> Carried:
        """The reverse of `to_json`; empty for clips of before."""
        if not data:
            return Carried()
        return Carried(
            **(
                data
                | {
                    "sounds": tuple(SoundFacts(**sound) for sound in data["sounds"]),
                    "subtitles": tuple(SubtitleFacts(**subtitle) for subtitle in data["subtitles"]),
                    "light": Light.from_json(data["light"]),
                    "dynamic": tuple(data["dynamic"]),
                    "others": tuple(data["others"]),
                }
            )
        )


def carried_by(path: Path, container: Any, first: Any, alpha: bool) -> Carried:
    """What an open file carries; `first` is its first decoded picture."""
    light, dynamic = _light_of(first)
    return Carried(
        container=container.format.name.split(",")[0],
        sounds=tuple(_sound(stream) for stream in container.streams.audio),
        subtitles=tuple(_subtitle(stream) for stream in container.streams.subtitles),
        chapters=len(container.chapters()),
        timecode=_timecode(container, first),
        tags=_tags(path, container),
        light=light,
        transfer=int(first.color_trc),
        full_range=is_full_range(first),
        dynamic=dynamic,
        others=_others(container),
        alpha=alpha,
        bit_rate=_bit_rate(path, container),
    )


def _sound(stream: Any) -> SoundFacts:
    language, title, heard = _language(stream), _title(stream), stream.codec_context
    if heard is None or heard.sample_rate <= 0 or heard.channels <= 0:  # damaged so that nothing of it could be read
        return SoundFacts(codec=None, language=language, title=title)
    return SoundFacts(
        codec=heard.name,
        channels=heard.channels,
        layout=str(heard.layout.name),
        rate=heard.sample_rate,
        language=language,
        title=title,
    )


def _subtitle(stream: Any) -> SubtitleFacts:
    codec = stream.codec_context.name if stream.codec_context else "unknown"
    return SubtitleFacts(codec=codec, language=_language(stream), title=_title(stream))


def _language(stream: Any) -> str:
    language = str(stream.metadata.get("language", ""))
    return "" if language == "und" else language[:16]


def _title(stream: Any) -> str:
    """A track's own title, which QuickTime calls its name; what writers call handlers says nothing."""
    title = str(stream.metadata.get("title", "") or stream.metadata.get("name", ""))
    handler = str(stream.metadata.get("handler_name", ""))
    return (title or ("" if "handler" in handler.lower().replace(" ", "") else handler))[:LONGEST_TAG]


def _tags(path: Path, container: Any) -> dict[str, str]:
    """Tags under one name each, whatever a container calls them; the file's own time where it tells none."""
    found: dict[str, str] = {}
    sources = [container.metadata, *(stream.metadata for stream in container.streams)]
    given: dict[str, str] = {}
    for source in reversed(sources):
        given |= {str(name).lower(): str(value) for name, value in source.items()}
    whole = {str(name).lower() for name in container.metadata}
    for name, spellings in TAGS.items():
        for spelling in spellings:
            of_streams = name in ("creation_time", "reel", "make", "model")
            value = given.get(spelling, "").replace("\0", "").strip()
            if value and (spelling in whole or of_streams):
                found[name] = value[:LONGEST_TAG]
                break
    if "creation_time" not in found:
        moment = datetime.fromtimestamp(path.stat().st_mtime, UTC)
        found["file_time"] = moment.strftime("%Y-%m-%dT%H:%M:%S.000000Z")
    return found


def _timecode(container: Any, first: Any) -> str | None:
    places = [
        *(stream.metadata for stream in container.streams if stream.type == "data"),
        *(stream.metadata for stream in container.streams.video),
        container.metadata,
        first.metadata,
    ]
    for metadata in places:
        for name, value in metadata.items():
            if str(name).lower() == "timecode":
                return str(value)[:32]
    return None


def _others(container: Any) -> tuple[str, ...]:
    """Streams that a render has no place for: what is not timecode, further pictures, attachments."""
    more = [f"a second picture stream ({_kind(stream)})" for stream in container.streams.video[1:]]
    for stream in container.streams:
        if stream.type == "attachment":
            more.append(f"an attachment ({stream.metadata.get('filename', _kind(stream))})"[:200])
        elif stream.type == "data" and not _is_told_of(stream):
            more.append(f"a data stream ({stream.metadata.get('handler_name', '').strip() or _kind(stream)})"[:200])
    return tuple(more)


def _is_told_of(stream: Any) -> bool:
    """Whether a data stream is the timecode's or the chapters' own, which FFmpeg keeps for itself."""
    return "timecode" in {str(name).lower() for name in stream.metadata} or stream.discard == KEPT_TO_ITSELF


def _kind(stream: Any) -> str:
    context = getattr(stream, "codec_context", None)
    return str(context.name) if context else "of an unknown kind"


def _bit_rate(path: Path, container: Any) -> int | None:
    """The pictures' bits a second: as the file says, or what its sound leaves of it."""
    own = container.streams.video[0].codec_context.bit_rate
    if own:
        return int(own)
    seconds = float(container.duration or 0) / 1_000_000
    if seconds <= 0:
        return None
    sound = sum(stream.codec_context.bit_rate or 0 for stream in container.streams.audio if stream.codec_context)
    return max(1, round(8 * path.stat().st_size / seconds - sound))


def _light_of(first: Any) -> tuple[Light | None, tuple[str, ...]]:
    primaries = luminance = content = None
    dynamic: list[str] = []
    for data in first.side_data:
        if data.type == Type.MASTERING_DISPLAY_METADATA:
            primaries, luminance = _mastering(bytes(data))
        elif data.type == Type.CONTENT_LIGHT_LEVEL:
            content = struct.unpack_from("=II", bytes(data))
        elif data.type in _DYNAMIC and _DYNAMIC[data.type] not in dynamic:
            dynamic.append(_DYNAMIC[data.type])
    told = primaries or luminance or content
    light = Light(primaries=primaries, luminance=luminance, content=content) if told else None
    return light, tuple(dynamic)


def _mastering(data: bytes) -> tuple[tuple[tuple[float, float], ...] | None, tuple[float, float] | None]:
    """FFmpeg's AVMasteringDisplayMetadata: ten rationals (R, G, B, white as x, y; least, most), then what is told."""
    numbers = struct.unpack_from("=20i2i", data)
    values = [_ratio(numbers[i], numbers[i + 1]) for i in range(0, 20, 2)]
    has_primaries, has_luminance = numbers[20:]
    primaries = tuple((values[i], values[i + 1]) for i in range(0, 8, 2)) if has_primaries else None
    return primaries, ((values[8], values[9]) if has_luminance else None)


def _ratio(numerator: int, denominator: int) -> float:
    return float(Fraction(numerator, denominator)) if denominator else 0.0
