"""Timecode: counting frames as hours, minutes, seconds and frames (SMPTE ST 12-1).

At 29.97 and 59.94 pictures a second "drop-frame" counting leaves out two (four) numbers at the start of every
minute but each tenth, so that the count keeps up with the clock; no picture is left out.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from fractions import Fraction

_FORM = re.compile(r"^(\d{1,2}):(\d{2}):(\d{2})([:;.,])(\d{2,3})$")
HOURS = 24


@dataclass(frozen=True)
class Timecode:
    """A place in a count of frames: `frames` since 00:00:00:00, `nominal` frames to a second of it."""

    frames: int
    nominal: int
    drop: bool = False

    @staticmethod
    def read(text: str, rate: Fraction) -> Timecode | None:
        """Of a text such as 10:00:00:00 or 10:00:00;00, for pictures at `rate` a second; None where it is not one."""
        found = _FORM.match(text.strip())
        nominal = round(rate)
        if not found or not 1 <= nominal <= 240:
            return None
        hours, minutes, seconds, frames = (int(found[i]) for i in (1, 2, 3, 5))
        if hours >= HOURS or minutes > 59 or seconds > 59 or frames >= nominal:
            return None
        drop = found[4] in ";.," and nominal % 30 == 0
        count = (hours * 3600 + minutes * 60 + seconds) * nominal + frames
        if drop:
            whole = hours * 60 + minutes
            count -= _left_out(nominal) * (whole - whole // 10)
        return Timecode(count, nominal, drop)

    def plus(self, frames: int) -> Timecode:
        """So many frames later; after a day it begins again."""
        return replace(self, frames=(self.frames + frames) % self._day)

    def finer(self, times: int) -> Timecode:
        """The same place counted `times` as finely, for a picture a field."""
        return replace(self, frames=self.frames * times, nominal=self.nominal * times)

    def starts(self, frames: int) -> list[tuple[int, int]]:
        """Of the next `frames`: (frame, number) wherever counting does not simply go on by one; see `__str__`."""
        found: list[tuple[int, int]] = []
        frame = 0
        while frame < frames:
            place = (self.frames + frame) % self._day
            left_out = self.numbers_left_out(place) if self.drop else 0
            found.append((frame, place + left_out))
            frame += self._run(place)
        return found

    def _run(self, place: int) -> int:
        """Frames from a place of the day until numbers are left out next, or the day ends."""
        to_midnight = self._day - place
        if not self.drop:
            return to_midnight
        left_out = _left_out(self.nominal)
        ten_minutes, minute = 600 * self.nominal - 9 * left_out, 60 * self.nominal
        rest = place % ten_minutes
        if rest < minute:
            return min(to_midnight, minute - rest)
        return min(to_midnight, (minute - left_out) - (rest - minute) % (minute - left_out))

    @property
    def _day(self) -> int:
        minutes = HOURS * 60
        numbers = minutes * 60 * self.nominal
        return numbers - (_left_out(self.nominal) * (minutes - minutes // 10) if self.drop else 0)

    def __str__(self) -> str:
        number = self.frames % self._day
        if self.drop:
            number += self.numbers_left_out(number)
        seconds, frames = divmod(number, self.nominal)
        minutes, second = divmod(seconds, 60)
        hour, minute = divmod(minutes, 60)
        digits = 2 if self.nominal <= 100 else 3
        return f"{hour:02}:{minute:02}:{second:02}{';' if self.drop else ':'}{frames:0{digits}}"

    def numbers_left_out(self, count: int) -> int:
        """How many numbers drop-frame counting has left out before frame `count` of the day."""
        left_out = _left_out(self.nominal)
        ten_minutes = 600 * self.nominal - 9 * left_out
        tens, rest = divmod(count, ten_minutes)
        minute = 60 * self.nominal - left_out
        inside = 0 if rest < 60 * self.nominal else 1 + (rest - 60 * self.nominal) // minute
        return left_out * (9 * tens + inside)


def _left_out(nominal: int) -> int:
    """Numbers left out a minute."""
    return 2 * nominal // 30
