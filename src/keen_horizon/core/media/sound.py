"""The sound that goes along: copied packet by packet where it can be, else encoded; cut exactly to the range.

MP4 and MOV can say that a file begins inside a packet and ends inside another (an edit list), so copied
sound is cut to the sample there. Other containers cannot: a part of a clip is encoded for them.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol

import av
import av.audio.resampler

from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.formats import COPIED_SOUND

EDIT_LISTS = ("mp4", "mov")
ENCODED_SOUND = {"mp4": "aac", "mov": "aac", "mkv": "flac", "webm": "libopus"}  # each cut to the sample there
OPUS_RATE = 48_000
USUAL_LAYOUTS = {1: "mono", 2: "stereo", 3: "2.1", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}


class SoundTrack(Protocol):
    """One sound stream on its way into an open container."""

    def advance(self, until: float) -> None:
        """Write what begins before `until`, seconds from the start of the output."""

    def finish(self) -> None:
        """Write what is left."""

    def close(self) -> None:
        """Close the file that the sound comes from."""


def sound_track(out: Any, container: str, path: Path, start: float, end: float, whole: bool) -> SoundTrack | None:
    """The sound of `path` between `start` and `end`, seconds on its own clock, for an open `container`.

    `whole` says that the range is the whole clip. None when there is no sound.
    """
    source = open_input(path)
    if not source.streams.audio:
        source.close()
        return None
    stream = source.streams.audio[0]
    if start > 1:
        source.seek(int((start - 1) * 1_000_000), backward=True)
    if stream.codec_context.name in COPIED_SOUND[container] and (whole or container in EDIT_LISTS):
        return _Copied(out, source, stream, start, end)
    return _Encoded(out, ENCODED_SOUND[container], source, stream, start, end)


class _Copied:
    def __init__(self, out: Any, source: Any, stream: Any, start: float, end: float) -> None:
        self._out, self._source = out, source
        self._start, self._end = start, end
        self._stream = out.add_stream_from_template(stream)
        self._packets = self._in_range(stream)
        self._waiting: Any = None

    def advance(self, until: float) -> None:
        """Write the packets that begin before `until`, seconds from the start of the output."""
        while True:
            packet = self._waiting or next(self._packets, None)
            self._waiting = packet
            if packet is None or float(packet.pts * packet.time_base) >= until:
                return
            self._waiting = None
            packet.stream = self._stream
            self._out.mux(packet)

    def finish(self) -> None:
        """Write what is left."""
        self.advance(self._end - self._start)

    def close(self) -> None:
        """Close the source."""
        self._source.close()

    def _in_range(self, stream: Any) -> Iterator[Any]:
        """Packets that reach into the range, on the output's clock, the last one ending where it ends."""
        for packet in self._source.demux(stream):
            if packet.pts is None or packet.size == 0:
                continue
            base = packet.time_base
            begins, lasts = float(packet.pts * base), float((packet.duration or 0) * base)
            if begins >= self._end:
                return
            primes = packet.pts <= 0 and self._start <= 0.1
            if begins + lasts <= self._start and not primes:
                continue
            if begins + lasts > self._end:
                packet.duration = max(1, round(Fraction(self._end - begins) / base))
            shift = round(Fraction(self._start) / base)
            packet.pts -= shift
            packet.dts = packet.pts
            yield packet


class _Encoded:
    def __init__(self, out: Any, codec: str, source: Any, stream: Any, start: float, end: float) -> None:
        self._out, self._source = out, source
        self._start = start
        rate = OPUS_RATE if codec == "libopus" else stream.codec_context.sample_rate
        layout = _layout_of(stream)
        self._left = round((end - start) * rate)
        self._written = 0
        self._stream = out.add_stream(codec, rate=rate, layout=layout)
        self._rate = rate
        kind = self._stream.codec_context.format
        self._resampler = av.audio.resampler.AudioResampler(format=kind, layout=layout, rate=rate)
        self._frames = self._decoded(stream)

    def advance(self, until: float) -> None:
        """Encode up to `until`, seconds from the start of the output."""
        while self._left > 0 and self._written < until * self._rate:
            samples = next(self._frames, None)
            if samples is None:
                self._left = 0
                return
            frame = av.AudioFrame.from_ndarray(samples, self._stream.codec_context.format.name, self._layout())
            frame.sample_rate, frame.pts, frame.time_base = self._rate, self._written, Fraction(1, self._rate)
            self._written += frame.samples
            self._left -= frame.samples
            self._out.mux(self._stream.encode(frame))

    def finish(self) -> None:
        """Encode what is left and flush the encoder."""
        self.advance(float("inf"))
        self._out.mux(self._stream.encode(None))

    def close(self) -> None:
        """Close the source."""
        self._source.close()

    def _layout(self) -> str:
        return str(self._stream.codec_context.layout.name)

    def _decoded(self, stream: Any) -> Iterator[Any]:
        """Samples (channels, n) or (1, n channels) of the range, from its first sample to its last."""
        planar = self._stream.codec_context.format.is_planar
        channels = 1 if planar else self._stream.codec_context.channels
        at: int | None = None
        for decoded in self._source.decode(stream):
            if at is None:
                at = round((float(decoded.pts * decoded.time_base) - self._start) * self._rate)
            for frame in self._resampler.resample(decoded):
                samples = frame.to_ndarray()
                skipped = max(0, -at)
                at += frame.samples
                if skipped >= frame.samples:
                    continue
                samples = samples[:, skipped * channels : (skipped + self._left) * channels]
                if samples.shape[1]:
                    yield samples
            if self._left <= 0:
                return


def _layout_of(stream: Any) -> str:
    """The name of a stream's channel layout; files that only count their channels mean the usual one."""
    told = str(stream.codec_context.layout.name)
    return USUAL_LAYOUTS.get(stream.codec_context.channels, told) if told.endswith(" channels") else told
