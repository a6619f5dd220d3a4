"""Subtitles that go along: packets as they are, moved with the range, those that reach over its ends cut there."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

from keen_horizon.core.media.carried import SubtitleFacts
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.sound import Copied, Track, name_track


def subtitle_track(
    out: Any, path: Path, number: int, facts: SubtitleFacts, *, start: float, end: float, handlers: bool
) -> Track:
    """Subtitle track `number` of `path` between `start` and `end`, seconds on its own clock. See `sound_track`."""
    source = open_input(path)
    track = _Subtitles(out, source, source.streams.subtitles[number], start, end)
    name_track(track.stream, facts.language, facts.title, handlers)
    return track


class _Subtitles(Copied):
    def _in_range(self, stream: Any) -> Iterator[Any]:
        for packet in self._source.demux(stream):
            if packet.pts is None or packet.size == 0:
                continue
            base = packet.time_base
            begins, lasts = packet.pts, packet.duration or 0
            first, last = (round(Fraction(moment) / base) for moment in (self._start, self._end))
            if begins >= last:
                return
            if begins + lasts <= first:
                continue
            shown = max(begins, first)
            packet.duration = min(begins + lasts, last) - shown
            packet.pts = packet.dts = shown - first
            yield packet
