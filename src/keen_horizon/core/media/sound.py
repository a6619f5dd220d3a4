"""The sound that goes along: copied packet by packet where it can be, else encoded; cut exactly to the range.

MP4 and MOV can say that a file begins inside a packet and ends inside another (an edit list), so copied
sound is cut to the sample there; packets of plain samples are cut themselves. Other containers cannot: a part of a
clip is encoded for them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol

import av
import av.audio.resampler
import av.error
import numpy as np

from keen_horizon.core.media.along import sound_layout
from keen_horizon.core.media.carried import SoundFacts
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.sound_encoders import encoded_bits, encoded_rate

RUN_IN_S = 3.0  # sought so much before the range, for files without an index land a little after what was asked
GAP_S = 0.02  # sound whose clock jumps further than this is put back in its place
MOST_SILENCE_S = 1.0  # at once


class Track(Protocol):
    """One sound or subtitle stream on its way into an open container."""

    def advance(self, until: float) -> None:
        """Write what begins before `until`, seconds from the start of the output."""

    def finish(self) -> None:
        """Write what is left."""

    def close(self) -> None:
        """Close the file that it comes from."""


def sound_track(
    out: Any, path: Path, number: int, facts: SoundFacts, *, way: str, start: float, end: float, handlers: bool
) -> Track:
    """Sound track `number` of `path` between `start` and `end`, seconds on its own clock, for an open container.

    `way` is "copy" or an encoder; `handlers` says that the container keeps a track's title as its handler's name.
    """
    source = open_input(path)
    stream = source.streams.audio[number]
    seek_before(source, start)
    if way == "copy":
        track: Track = Copied(out, source, stream, start, end)
    else:
        track = _Encoded(out, way, source, stream, facts, start=start, end=end)
    name_track(track.stream, facts.language, facts.title, handlers)  # type: ignore[attr-defined]
    return track


def seek_before(source: Any, start: float) -> None:
    """Go to a place safely before `start`, seconds on the file's clock."""
    if start > RUN_IN_S:
        source.seek(int((start - RUN_IN_S) * av.time_base), backward=True)


def name_track(stream: Any, language: str, title: str, handlers: bool) -> None:
    """Write a track's language and title."""
    if language:
        stream.metadata["language"] = _MOV_LANGUAGES.get(language, language) if handlers else language
    if title:
        stream.metadata["title"] = title
        if handlers:
            stream.metadata["handler_name"] = title


def _decoded(source: Any, stream: Any) -> Iterator[Any]:
    """A stream's sound; what is damaged is passed over, and leaves a silence."""
    for packet in source.demux(stream):
        try:
            yield from packet.decode()
        except av.error.FFmpegError:
            continue


# QuickTime has a list of languages under ISO 639-2's bibliographic codes; MP4 takes either.
_MOV_LANGUAGES = {"deu": "ger", "nld": "dut", "ell": "gre", "isl": "ice", "zho": "chi", "fre": "fra"}


class Copied:
    """Packets as they are. In containers without edit lists only whole clips are copied."""

    def __init__(self, out: Any, source: Any, stream: Any, start: float, end: float) -> None:
        self._out, self._source = out, source
        self._start, self._end = start, end
        self.stream = out.add_stream_from_template(stream)
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
            packet.stream = self.stream
            self._out.mux(packet)

    def finish(self) -> None:
        """Write what is left."""
        self.advance(self._end - self._start)

    def close(self) -> None:
        """Close the source."""
        self._source.close()

    def _in_range(self, stream: Any) -> Iterator[Any]:
        """Packets that reach into the range, on the output's clock, the last one ending where it ends."""
        plain = _PlainSamples.of(stream)
        for packet in self._source.demux(stream):
            if packet.pts is None or packet.size == 0:
                continue
            base = packet.time_base
            first, last = (round(Fraction(moment) / base) for moment in (self._start, self._end))
            begins = packet.pts
            ends = begins + (plain.duration(packet) if plain else packet.duration or 0)
            if begins >= last:
                return
            primes = plain is None and begins <= 0 and self._start <= 0.1
            if ends <= first and not primes:
                continue
            if plain and (begins < first or ends > last):
                packet = plain.cut(packet, max(begins, first), min(ends, last))
            elif ends > last:
                packet.duration = last - begins
            packet.pts -= first
            packet.dts = packet.pts
            yield packet


@dataclass(frozen=True, kw_only=True)
class _PlainSamples:
    """Sound that is not coded: `size` bytes for one moment's samples of all channels, `rate` moments a second."""

    size: int
    rate: int

    @staticmethod
    def of(stream: Any) -> _PlainSamples | None:
        """A stream's; None where its packets are coded."""
        bits = re.fullmatch(r"pcm_[sf](\d+)[lb]e", stream.codec_context.name)
        if not bits:
            return None
        heard = stream.codec_context
        return _PlainSamples(size=int(bits[1]) // 8 * int(heard.channels), rate=int(heard.sample_rate))

    def duration(self, packet: Any) -> int:
        """How long a packet's samples last, on its clock."""
        lasts: int = round(Fraction(packet.size // self.size, self.rate) / packet.time_base)
        return lasts

    def cut(self, packet: Any, first: int, last: int) -> Any:
        """The part of a packet from `first` to before `last`, on its clock."""
        begins, base = packet.pts, packet.time_base
        head, tail = (round((moment - begins) * base * self.rate) * self.size for moment in (first, last))
        part = av.Packet(bytes(packet)[head:tail])
        part.pts, part.duration, part.time_base = first, last - first, base
        return part


class _Encoded:
    def __init__(
        self, out: Any, codec: str, source: Any, stream: Any, facts: SoundFacts, *, start: float, end: float
    ) -> None:
        self._out, self._source = out, source
        self._start = start
        rate = encoded_rate(codec, stream.codec_context.sample_rate)
        layout = sound_layout(facts) or "stereo"
        self._left = round((end - start) * rate)
        self._written = 0
        self.stream = out.add_stream(codec, rate=rate, layout=layout)
        bits = encoded_bits(codec, self.stream.codec_context.channels)
        if bits:
            self.stream.bit_rate = bits
        self._rate = rate
        kind = self.stream.codec_context.format
        self._resampler = av.audio.resampler.AudioResampler(format=kind, layout=layout, rate=rate)
        self._frames = self._in_range(stream)

    def advance(self, until: float) -> None:
        """Encode up to `until`, seconds from the start of the output."""
        while self._left > 0 and self._written < until * self._rate:
            samples = next(self._frames, None)
            if samples is None:
                self._left = 0
                return
            frame = av.AudioFrame.from_ndarray(samples, self.stream.codec_context.format.name, self._layout())
            frame.sample_rate, frame.pts, frame.time_base = self._rate, self._written, Fraction(1, self._rate)
            self._written += frame.samples
            self._left -= frame.samples
            self._out.mux(self.stream.encode(frame))

    def finish(self) -> None:
        """Encode what is left and flush the encoder."""
        self.advance(float("inf"))
        self._out.mux(self.stream.encode(None))

    def close(self) -> None:
        """Close the source."""
        self._source.close()

    def _layout(self) -> str:
        return str(self.stream.codec_context.layout.name)

    def _in_range(self, stream: Any) -> Iterator[Any]:
        """Samples (channels, n) or (1, n channels) of the range, from its first sample to its last."""
        planar = self.stream.codec_context.format.is_planar
        channels = 1 if planar else self.stream.codec_context.channels
        at = 0  # of the next sample to give, in the range
        for begins, samples in self._placed(stream, channels):
            if begins > at:
                for silence in self._silence(samples, min(begins - at, self._left), channels):
                    at += silence.shape[1] // channels
                    yield silence
            kept = samples[:, max(0, at - begins) * channels :][:, : self._left * channels]
            if kept.shape[1]:
                at += kept.shape[1] // channels
                yield kept
            if self._left <= 0:
                return

    def _placed(self, stream: Any, channels: int) -> Iterator[tuple[int, Any]]:
        """Decoded samples, each with the place of its first one: counted on, unless the file's clock jumps."""
        place: int | None = None
        for decoded in _decoded(self._source, stream):
            if decoded.pts is not None:
                told = round((float(decoded.pts * decoded.time_base) - self._start) * self._rate)
                if place is None or abs(told - place) > GAP_S * self._rate:
                    place = told
            for frame in self._resampler.resample(decoded):
                samples = frame.to_ndarray()
                yield place or 0, samples
                place = (place or 0) + samples.shape[1] // channels

    def _silence(self, like: Any, count: int, channels: int) -> Iterator[Any]:
        while count > 0:
            part = min(count, round(MOST_SILENCE_S * self._rate))
            yield np.zeros((like.shape[0], part * channels), like.dtype)
            count -= part
