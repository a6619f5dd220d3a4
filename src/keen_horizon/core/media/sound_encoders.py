"""What the encoders of sound take: rates, layouts, and how many bits they are given."""

from __future__ import annotations

from functools import cache

import av
import av.codec
import av.error

_BITS_PER_CHANNEL = {"aac": 160_000, "libopus": 128_000}
_OFTEN = 48_000  # Hz: what sound of a higher rate than an encoder takes is brought to


def encoded_rate(encoder: str, rate: int) -> int:
    """The rate (Hz) to encode sound of `rate` with: its own where the encoder takes it, else the next above."""
    taken = av.codec.Codec(encoder, "w").audio_rates
    if not taken or rate in taken:
        return rate
    return min((other for other in taken if other > rate), default=_OFTEN)


def encoded_bits(encoder: str, channels: int) -> int | None:
    """Bits a second; None for encoders that lose nothing."""
    return _BITS_PER_CHANNEL[encoder] * channels if encoder in _BITS_PER_CHANNEL else None


@cache
def takes(encoder: str, rate: int, layout: str) -> bool:
    """Whether an encoder takes sound of a rate (Hz) and channel layout: it is asked."""
    try:
        context = av.CodecContext.create(encoder, "w")
        context.format = context.codec.audio_formats[0]
        context.sample_rate, context.layout = encoded_rate(encoder, rate), layout
        context.open(strict=True)
    except (av.error.FFmpegError, ValueError):
        return False
    return True
