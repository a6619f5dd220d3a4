"""Edits as OpenTimelineIO documents: which parts of which files they use, and the same edit with other files.

A clip of an edit names its file and, in that file's own time, the part that is used. A file's own time begins with
its `available_range`, usually its timecode. So a corrected file that holds a part of the original keeps the cuts by
itself: its available range begins where that part began, and nothing else of the edit changes.

Times are read as exact seconds; frames are counted from the file's first picture, at the file's own rate.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from pathlib import PurePath
from typing import Any
from urllib.parse import unquote, urlparse

import opentimelineio as otio

from keen_horizon.core.errors import EditError
from keen_horizon.core.nesting import levels

LARGEST, DEEPEST = 64 << 20, 200  # characters, and levels of nesting; edits of films have a tenth of it
MOST_CLIPS = 20_000
_KIND, _TIMELINE = "OTIO_SCHEMA", "Timeline."


@dataclass(frozen=True, kw_only=True)
class Use:
    """A clip of an edit: the `number`th, the name of its file, and what it uses of it.

    `begins` and `lasts` are seconds of the file's own time; `media_begins` and `media_lasts` say the same of the whole
    file, None where the edit does not tell.
    """

    number: int
    name: str
    file: str
    begins: Fraction
    lasts: Fraction
    media_begins: Fraction | None
    media_lasts: Fraction | None


@dataclass(frozen=True, kw_only=True)
class Replacement:
    """A corrected file: its address, and which part of the original's own time it holds, seconds."""

    address: str
    begins: Fraction
    lasts: Fraction
    rate: Fraction


def edit_text(data: bytes, name: str) -> str:
    """A file's bytes as the text of an edit. Raises EditError, naming the file `name`."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise EditError(f"{name}: this is not an OpenTimelineIO document; it is no text.") from error


def read_edit(text: str, name: str) -> tuple[Use, ...]:
    """What an edit uses, in its order, nested parts included. Raises EditError, naming the file `name`."""
    uses = []
    for number, clip in enumerate(_clips(_timeline(text, name))):
        if isinstance(clip.media_reference, otio.schema.ExternalReference):
            uses.append(_use(number, clip, name))
    if not uses:
        raise EditError(f"{name}: no clip of this edit names a file. Write it with its media linked.")
    return tuple(uses)


def with_files(text: str, name: str, replacements: Mapping[int, Replacement]) -> str:
    """The edit with the files of the clips `replacements` (by number) replaced, everything else untouched."""
    timeline = _timeline(text, name)
    for number, clip in enumerate(_clips(timeline)):
        replacement = replacements.get(number)
        if replacement is None:
            continue
        before = clip.media_reference
        rate = float(replacement.rate)
        available = otio.opentime.TimeRange(
            otio.opentime.RationalTime(float(replacement.begins * replacement.rate), rate),
            otio.opentime.RationalTime(float(replacement.lasts * replacement.rate), rate),
        )
        after = otio.schema.ExternalReference(replacement.address, available, before.metadata)
        after.name = before.name
        references = clip.media_references()
        references[clip.active_media_reference_key] = after
        clip.set_media_references(references, clip.active_media_reference_key)
    return str(timeline.to_json_string())


def _timeline(text: str, name: str) -> Any:
    if len(text) > LARGEST:
        raise EditError(f"{name}: this is more than an edit can be, {LARGEST >> 20} MB.")
    if levels(text) > DEEPEST:
        raise EditError(f"{name}: its parts are nested deeper than {DEEPEST} levels. Flatten the edit.")
    try:
        document = json.loads(text, parse_constant=_no_number)
    except ValueError as error:
        raise EditError(f"{name}: this is not an OpenTimelineIO document; it is no JSON.") from error
    if (
        not isinstance(document, dict)
        or not str(document.get(_KIND, "")).startswith(_TIMELINE)
        or "tracks" not in document
    ):
        raise EditError(f"{name}: this is not an OpenTimelineIO timeline. Export one timeline by itself.")
    _check_parts(document, name)
    try:
        timeline = otio.schema.Timeline.from_json_string(text)
        clips = _clips(timeline)
    except (otio.exceptions.OTIOError, ValueError, TypeError, AttributeError, LookupError) as error:
        raise EditError(f"{name}: this OpenTimelineIO document cannot be read ({error}).") from error
    if len(clips) > MOST_CLIPS:
        raise EditError(f"{name}: it has more than {MOST_CLIPS} clips. Export a part of it.")
    return timeline


def _no_number(constant: str) -> float:
    raise ValueError(f"{constant} is no number")


def _check_parts(value: Any, name: str) -> None:
    """Where an edit has parts, none of them is empty, which the library takes for granted. Raises EditError."""
    if isinstance(value, list):
        for item in value:
            _check_parts(item, name)
    elif isinstance(value, dict):
        for key in ("children", "tracks"):
            parts = value.get(key, [])
            parts = parts if isinstance(parts, list) else [parts]
            if not all(isinstance(part, dict) and _KIND in part for part in parts):
                raise EditError(f"{name}: this OpenTimelineIO document cannot be read (one of its {key} is empty).")
        for key, item in value.items():
            if key != "metadata":  # other programs' own, of any form
                _check_parts(item, name)


def _clips(timeline: Any) -> list[Any]:
    return list(timeline.find_clips())


def _use(number: int, clip: Any, name: str) -> Use:
    reference = clip.media_reference
    available = reference.available_range
    used = clip.source_range or available
    if used is None:
        raise EditError(f"{name}: its clip “{clip.name}” tells no range. Write the edit with its media linked.")
    lasts = _seconds(used.duration, name)
    for effect in clip.effects:
        if isinstance(effect, otio.schema.LinearTimeWarp):
            lasts *= abs(Fraction(effect.time_scalar).limit_denominator(10_000))
    if lasts < 0:
        raise EditError(f"{name}: its clip “{clip.name}” lasts less than nothing.")
    return Use(
        number=number,
        name=str(clip.name),
        file=_file_name(reference.target_url),
        begins=_seconds(used.start_time, name),
        lasts=lasts,
        media_begins=_seconds(available.start_time, name) if available else None,
        media_lasts=_seconds(available.duration, name) if available else None,
    )


def _seconds(time: Any, name: str) -> Fraction:
    """Exact seconds: rates such as 29.97 mean 30000/1001."""
    if not time.rate > 0 or abs(time.value) > 1e12:
        raise EditError(f"{name}: it tells a time that cannot be ({time.value} at {time.rate} a second).")
    return Fraction(time.value).limit_denominator(100_000) / exact_rate(time.rate)


def exact_rate(rate: float) -> Fraction:
    """The rate that a number of frames a second means: 23.976, 29.97, 59.94 ... are 24, 30, 60 times 1000/1001."""
    whole = round(rate)
    if abs(rate - whole * 1000 / 1001) < 0.002 * whole / 24 and abs(rate - whole) > 1e-6:
        return Fraction(whole * 1000, 1001)
    return Fraction(rate).limit_denominator(100_000)


def _file_name(address: str) -> str:
    """The name of the file that an address or a path leads to."""
    path = unquote(urlparse(address).path) or address
    return PurePath(path.replace("\\", "/")).name
