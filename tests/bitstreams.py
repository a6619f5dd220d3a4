"""Streams that cameras write and no encoder at hand does.

H.264 whose fields are pictures of their own: every macroblock is kept as samples (ITU-T H.264, I_PCM), so the stream is
large, and exact. And H.265 with dynamic metadata (SMPTE ST 2094-40) before every picture.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

MACROBLOCK = 16


class Bits:
    """A row of bits: numbers of fixed length, and Exp-Golomb codes (9.1)."""

    def __init__(self) -> None:
        self._text = ""

    def fixed(self, *values: tuple[int, int]) -> Bits:
        """Numbers, each with its length in bits."""
        self._text += "".join(f"{value:0{length}b}" for value, length in values)
        return self

    def golomb(self, *values: int) -> Bits:
        """Numbers >= 0."""
        for value in values:
            code = f"{value + 1:b}"
            self._text += "0" * (len(code) - 1) + code
        return self

    def aligned(self, fill: str = "0") -> bytes:
        """All of it as bytes, the last one filled up."""
        text = self._text + fill
        text += "0" * (-len(text) % 8)
        return int(text, 2).to_bytes(len(text) // 8, "big")

    def __len__(self) -> int:
        return len(self._text)


def unit(kind: int, payload: bytes) -> bytes:
    """One unit of the stream, with what would look like the start of one broken up (7.4.1)."""
    return b"\0\0\0\1" + bytes([0x60 | kind]) + re.sub(rb"\0\0(?=[\0-\3])", b"\0\0\3", payload)


def parameters(width: int, height: int, rate: int) -> bytes:
    """Sequence and picture parameters: main profile, fields, variable-length codes, no deblocking."""
    sequence = Bits().fixed((77, 8), (0, 8), (40, 8)).golomb(0, 0, 0, 4, 1).fixed((0, 1))
    sequence.golomb(width // MACROBLOCK - 1, height // (2 * MACROBLOCK) - 1)
    sequence.fixed((0, 1), (0, 1), (1, 1), (0, 1), (1, 1), (0, 4), (1, 1), (1, 32), (2 * rate, 32), (1, 1), (0, 4))
    picture = Bits().golomb(0, 0).fixed((0, 2)).golomb(0, 0, 0).fixed((0, 3)).golomb(0, 0, 0).fixed((4, 3))
    return unit(7, sequence.aligned("1")) + unit(8, picture.aligned("1"))


def field_picture(field: np.ndarray, number: int, bottom: bool, opens: bool) -> bytes:
    """One field's luma (rows, columns), grey, as a picture: `opens` its frame, or follows in it."""
    header = Bits().golomb(0, 7, 0).fixed((0, 4), (1, 1), (int(bottom), 1))
    if opens:
        header.golomb(number % 2)
    header.fixed((0 if opens else 1, 8), *([(0, 2)] if opens else [(0, 1)])).golomb(0, 1)
    rows, columns = (side // MACROBLOCK for side in field.shape)
    blocks = field.reshape(rows, MACROBLOCK, columns, MACROBLOCK).swapaxes(1, 2).reshape(-1, MACROBLOCK**2)
    samples = np.hstack([np.clip(blocks, 1, 254), np.full((len(blocks), 128), 128)]).astype(np.uint8)
    later = Bits().golomb(25).aligned()
    parts = [header.golomb(25).aligned("")] + [later] * (len(samples) - 1)
    coded = b"".join(part + block.tobytes() for part, block in zip(parts, samples, strict=True))
    return unit(5 if opens else 1, coded + b"\x80")


def field_pictures(frames: Sequence[np.ndarray], first: str, rate: int = 25) -> bytes:
    """Woven grey frames (rows, columns) as a stream; sides are multiples of 32."""
    height, width = frames[0].shape
    stream = [parameters(width, height, rate)]
    for number, frame in enumerate(frames):
        for place, bottom in enumerate((False, True) if first == "top" else (True, False)):
            stream.append(field_picture(frame[int(bottom) :: 2], number, bottom, opens=place == 0))
    return b"".join(stream)


def with_dynamic_metadata(stream: bytes) -> bytes:
    """An H.265 stream with the same dynamic metadata before each of its pictures (ITU-T H.265, D.2.6)."""
    told = Bits().fixed((0xB5, 8), (0x3C, 16), (1, 16), (4, 8), (1, 8), (1, 2), (1000, 27), (0, 1))
    told.fixed(*[(50_000, 17)] * 4, (1, 4), (50, 7), (20_000, 17), (0, 10), (0, 3))
    payload = told.aligned()
    message = b"\0\0\0\1\x4e\1" + re.sub(rb"\0\0(?=[\0-\3])", b"\0\0\3", bytes([4, len(payload)]) + payload) + b"\x80"
    units = re.split(rb"(?<=\x00\x00\x01)", stream)
    out = units[0]
    for part in units[1:]:
        opens_a_picture = part[0] >> 1 < 32 and part[2] & 0x80  # a slice, and its picture's first
        start = len(out) - (4 if out.endswith(b"\0\0\0\1") else 3)
        out = (out[:start] + message + out[start:] if opens_a_picture else out) + part
    return out
