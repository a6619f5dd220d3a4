"""One film of several camera files: cameras begin a new file every few gigabytes or minutes.

Nothing is decoded: packets go on as they are, each file's moved to where the one before it ends. Files belong together
where they are made alike, their names count on, and their timecode, where they have one, goes on from file to file.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from itertools import pairwise
from pathlib import Path, PurePath
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, Stopped
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.encode import whole_or_nothing
from keen_horizon.core.media.probe import NUMBERED, ClipInfo, probe
from keen_horizon.core.media.sound import name_track

CONTAINERS = {"mov": ("mov", ".mov"), "matroska": ("matroska", ".mkv"), "mpegts": ("mpegts", ".ts")}
USUAL = ("matroska", ".mkv")  # which holds everything that is read here
_COUNTED = re.compile(r"^(.*?)(\d+)(\D*)$")
STEPS = (1, 10_000)  # of the numbers in names: some cameras put a take's part before its four figures, 010001, 020001
STRAY_FRAMES = 1  # that timecode may be off by between two files

Part = tuple[Path, ClipInfo, NDArray[np.float64]]


def suffix_of(info: ClipInfo) -> str:
    """The ending of a joined file's name."""
    return CONTAINERS.get(info.carried.container, USUAL)[1]


def in_order(parts: Sequence[tuple[Path, ClipInfo]]) -> list[tuple[Path, ClipInfo]]:
    """Files in the order of their names' numbers. Raises MediaError where they do not belong together."""
    if len(parts) < 2:
        raise MediaError("Joining takes at least two clips.")
    counted = [(path, info, _COUNTED.match(PurePath(info.name).stem)) for path, info in parts]
    for _, info, count in counted:
        if not count:
            raise MediaError(f"{info.name}: its name has no number that tells which file it goes on from.")
    ordered = sorted(counted, key=lambda part: int(part[2][2]) if part[2] else 0)
    for (_, one, before), (_, other, after) in pairwise(ordered):
        assert before is not None
        assert after is not None
        if int(after[2]) - int(before[2]) not in STEPS or (before[1], before[3]) != (after[1], after[3]):
            raise MediaError(f"{other.name}: its name does not count on from {one.name}.")
        _check_alike(one, other)
        _check_timecode(one, other)
    return [(path, info) for path, info, _ in ordered]


def left_behind(parts: Sequence[ClipInfo]) -> tuple[str, ...]:
    """What files carry besides pictures and sound that goes on from file to file, and that a joined one has not."""
    carried = [info.carried for info in parts]
    texts = ["the subtitles of the files it was joined of"] if any(own.subtitles for own in carried) else []
    chapters = ["the chapters of the files it was joined of"] if any(own.chapters for own in carried) else []
    return (*texts, *chapters, *dict.fromkeys(other for own in carried for other in own.others))


def joined(
    parts: Sequence[tuple[Path, ClipInfo]],
    destination: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> None:
    """Write one file of several, in order (see `in_order`). Raises MediaError, EncodeError, Stopped."""
    kind = CONTAINERS.get(parts[0][1].carried.container, USUAL)[0]
    partial = destination.with_name(destination.name + ".part")
    timed = [(path, info, probe(path)[1]) for path, info in parts]
    done, total = 0, sum(len(times) for _, _, times in timed)
    with whole_or_nothing(destination, partial), av.open(str(partial), "w", format=kind) as out:
        streams = _streams(out, parts[0])
        last: dict[int, int] = {}
        shift = Fraction(0)
        for path, info, times in timed:
            begins = Fraction(float(times[0])).limit_denominator(1_000_000)
            for number, packet in _packets(path):
                if number not in streams or not _moved_on(packet, shift - begins, last, number):
                    continue
                done += number == 0
                if should_stop():
                    raise Stopped(f"{parts[0][1].name}: joining was stopped.")
                packet.stream = streams[number]
                out.mux(packet)
                progress(min(done, total), total)
            shift += Fraction(len(times)) / info.stored_rate


def _streams(out: Any, part: tuple[Path, ClipInfo]) -> dict[int, Any]:
    """Output streams for a file's pictures (0) and its sound tracks (1 ...)."""
    path, info = part
    with open_input(path) as source:
        streams = {0: out.add_stream_from_template(source.streams.video[0])}
        for number, sound in enumerate(source.streams.audio, 1):
            facts = info.carried.sounds[number - 1]
            if facts.codec is not None:
                streams[number] = out.add_stream_from_template(sound)
                name_track(streams[number], facts.language, facts.title, info.carried.container == "mov")
    told = {name: value for name, value in info.carried.tags.items() if name != "file_time"}
    if info.carried.timecode:
        streams[0].metadata["timecode"] = info.carried.timecode
        told["timecode"] = info.carried.timecode
    out.metadata.update(told)
    return streams


def _packets(path: Path) -> Iterator[tuple[int, Any]]:
    """A file's packets with the number of their stream (see `_streams`)."""
    decoded_at = iter(_decoding_times(path))
    with open_input(path) as source:
        numbers = {stream.index: number for number, stream in enumerate(source.streams.audio, 1)}
        numbers[source.streams.video[0].index] = 0
        for packet in source.demux():
            if not packet.size or packet.stream.index not in numbers:
                continue
            number = numbers[packet.stream.index]
            if number == 0:
                packet.dts = next(decoded_at, packet.dts)
            yield number, packet


def _decoding_times(path: Path) -> list[int]:
    """When a file's pictures are to be decoded, in the order they are stored: some containers keep only when each is
    shown. The n-th is decoded when the n-th is shown, all of them so much earlier that none is shown before.
    """
    with open_input(path) as source:
        shown = [packet.pts for packet in source.demux(source.streams.video[0]) if packet.size]
    if None in shown:
        return []
    ordered = sorted(shown)
    ahead = max((at - own for at, own in zip(ordered, shown, strict=True)), default=0)
    return [at - ahead for at in ordered]


def _moved_on(packet: Any, by: Fraction, last: dict[int, int], number: int) -> bool:
    """Move a packet by seconds; False for one that would come before what is written already."""
    ticks = round(by / packet.time_base)
    if packet.pts is not None:
        packet.pts += ticks
    if packet.dts is not None:
        packet.dts += ticks
    place = packet.pts if packet.dts is None else packet.dts
    if place is None or place <= last.get(number, place - 1):
        return False
    last[number] = place
    return True


def _check_alike(one: ClipInfo, other: ClipInfo) -> None:
    if NUMBERED in (one.carried.container, other.carried.container):
        raise MediaError(f"{other.name}: numbered pictures are one clip already. Put them in one folder.")
    compared = (
        ("container", one.carried.container, other.carried.container),
        ("codec", one.codec, other.codec),
        ("size", one.coded, other.coded),
        ("pixels", one.pixel_format, other.pixel_format),
        ("rate", one.stored_rate, other.stored_rate),
        ("fields", one.reading.first_field, other.reading.first_field),
        ("sound", [s.codec for s in one.carried.sounds], [s.codec for s in other.carried.sounds]),
    )
    for what, mine, theirs in compared:
        if mine != theirs:
            raise MediaError(f"{other.name}: its {what} is another than that of {one.name}; they cannot be joined.")


def _check_timecode(one: ClipInfo, other: ClipInfo) -> None:
    begins, follows = one.timecode, other.timecode
    if begins is None or follows is None or begins.frames == follows.frames == 0:
        return
    apart = follows.frames - begins.plus(one.frames).frames
    if abs(apart) > STRAY_FRAMES * one.reading.pictures_per_frame:
        raise MediaError(
            f"{other.name}: it begins at {follows}, but {one.name} ends at {begins.plus(one.frames)}; "
            "they are not one take."
        )
