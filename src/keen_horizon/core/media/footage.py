"""A clip's file together with what must be known to read its pictures, besides what the file says itself.

A plain path is read as it comes: whole pictures, colours sited as its format usually has them.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal

FirstField = Literal["top", "bottom"]


@dataclass(frozen=True, kw_only=True)
class Reading:
    """How pictures are made of what is stored.

    `first_field` is the field shown first where lines of two moments are woven into one picture, None for whole
    pictures; with `every_field` each field becomes a picture, else each pair. `site` is where chroma samples lie
    (see `chroma.py`). `rate` is how many numbered pictures are shown a second.
    """

    first_field: FirstField | None = None
    every_field: bool = False
    site: int = 0
    rate: Fraction | None = None

    @staticmethod
    def from_json(data: dict[str, Any] | None) -> Reading:
        """The reverse of `dataclasses.asdict`; clips of before are read as they come."""
        told = dict(data or {})
        return Reading(**(told | {"rate": Fraction(told["rate"]) if told.get("rate") else None}))

    @property
    def pictures_per_frame(self) -> int:
        """How many pictures one stored frame gives."""
        return 2 if self.first_field and self.every_field else 1


@dataclass(frozen=True)
class Footage:
    """A file and how it is read."""

    path: Path
    reading: Reading = Reading()


Source = Path | Footage


def footage_of(source: Source) -> Footage:
    """A plain path as footage that is read as it comes."""
    return source if isinstance(source, Footage) else Footage(source)
