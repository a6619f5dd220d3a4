"""The treatment's edges: how the moved picture meets the frame."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from keen_horizon.core.treatment.parts import Part


class Window(Part):
    """A nudge of the output window by hand: offset in px of the clip, enlargement, turn in degrees."""

    x: float = Field(default=0.0, ge=-10000, le=10000)
    y: float = Field(default=0.0, ge=-10000, le=10000)
    scale: float = Field(default=1.0, ge=0.2, le=5.0)
    turn_deg: float = Field(default=0.0, ge=-180, le=180)

    @property
    def untouched(self) -> bool:
        """Whether it changes nothing."""
        return self == Window()


class OutputSize(Part):
    """Width and height of the delivered picture, both even."""

    width: int = Field(ge=16, le=16384, multiple_of=2)
    height: int = Field(ge=16, le=16384, multiple_of=2)


class Borrow(Part):
    """Missing picture from frames up to `reach_s` seconds away, blended over `feather_px` of the clip.

    What no frame shows is filled by zoom or left as a gap, as `rest` says.
    """

    reach_s: float = Field(default=0.5, ge=0.03, le=2.0)
    feather_px: float = Field(default=12.0, ge=0.0, le=100.0)
    rest: Literal["fill", "leave"] = "fill"


class Edges(Part):
    """How the moved picture meets the frame.

    `way` says what happens where it no longer covers it. `zoom` says whether filling uses one enlargement or a
    breathing one, which changes by at most `zoom_rate` (enlargement per second). `trim` makes the picture smaller
    instead of enlarging it. Gaps have `gap_colour`; with `gap_clear` they are clear where the file has alpha.
    """

    way: Literal["fill", "trim", "leave", "borrow"] = "fill"
    borrow: Borrow = Borrow()
    zoom: Literal["one", "breathing"] = "one"
    zoom_rate: float = Field(default=0.1, ge=0.005, le=2.0)
    zoom_limit: float = Field(default=1.10, ge=1.0, le=3.0)
    window: Window = Window()
    gap_clear: bool = False
    gap_colour: str = Field(default="#000000", pattern=r"^#[0-9a-fA-F]{6}$")
    sharpen: float = Field(default=0.0, ge=0.0, le=2.0)
    size: OutputSize | None = None

    @property
    def clear_gaps(self) -> bool:
        """Whether gaps that are left on purpose are to be clear where the delivered file has alpha."""
        return self.gap_clear and self.gaps_wanted

    @property
    def gaps_wanted(self) -> bool:
        """Whether gaps are left on purpose."""
        return self.way == "leave" or (self.way == "borrow" and self.borrow.rest == "leave")
