"""The figures of a treatment that can be keyed over the clip: each one's unit and bounds, told once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field, model_validator

from keen_horizon.core.treatment.parts import MOST_KEYS, Key, Part

MotionFigure = Literal["response_s", "strength"]
OpticsFigure = Literal[
    "coefficient_1", "coefficient_2", "coefficient_3", "coefficient_4", "coefficient_5",
    "centre_x", "centre_y", "squeeze", "p1", "p2", "canvas", "roll_deg", "pitch_deg", "yaw_deg",
    "corner_1", "corner_2", "corner_3", "corner_4", "corner_5", "corner_6", "corner_7", "corner_8",
]  # fmt: skip
FalloffFigure = Literal["falloff_1", "falloff_2", "falloff_3", "falloff_x", "falloff_y", "falloff_amount"]
FringeFigure = Literal["red_1", "red_2", "blue_1", "blue_2", "fringe_x", "fringe_y"]


@dataclass(frozen=True)
class Figure:
    """What a figure may be, from `low` to `high`, in `unit`; no unit where it is a ratio or a share."""

    low: float
    high: float
    unit: str = ""

    def field(self, default: float) -> Any:
        """The figure as a field of a document."""
        return Field(default=default, ge=self.low, le=self.high)


FIGURES: dict[str, Figure] = {
    "response_s": Figure(0.1, 5.0, "s"),
    "strength": Figure(0.0, 1.0),
    **{f"coefficient_{i}": Figure(-20.0, 20.0) for i in range(1, 6)},
    "centre_x": Figure(-0.3, 0.3, "half-diagonals"),
    "centre_y": Figure(-0.3, 0.3, "half-diagonals"),
    "squeeze": Figure(0.25, 4.0),
    "p1": Figure(-0.2, 0.2),
    "p2": Figure(-0.2, 0.2),
    "canvas": Figure(0.0, 1.0),
    "roll_deg": Figure(-180.0, 180.0, "degrees"),
    "pitch_deg": Figure(-60.0, 60.0, "degrees"),
    "yaw_deg": Figure(-60.0, 60.0, "degrees"),
    **{f"corner_{i}": Figure(-1.5, 1.5, "shares of the frame's side") for i in range(1, 9)},
    **{f"falloff_{i}": Figure(-10.0, 10.0) for i in range(1, 4)},  # r^6 may take back what r^4 gave
    "falloff_x": Figure(-0.3, 0.3, "half-diagonals"),
    "falloff_y": Figure(-0.3, 0.3, "half-diagonals"),
    "falloff_amount": Figure(0.0, 1.0),
    # of the radius: 22 px at a corner of 1080p, more than glass does
    **{f"{colour}_{i}": Figure(-0.02, 0.02) for colour in ("red", "blue") for i in (1, 2)},
    "fringe_x": Figure(-0.3, 0.3, "half-diagonals"),
    "fringe_y": Figure(-0.3, 0.3, "half-diagonals"),
}


class Keys(Part):
    """The keys of one figure, which stand in for it."""

    figure: str
    keys: tuple[Key, ...] = Field(min_length=1, max_length=MOST_KEYS)

    @model_validator(mode="after")
    def _sound(self) -> Keys:
        if len({key.frame for key in self.keys}) != len(self.keys):
            raise ValueError("two keys stand on one frame")
        known = FIGURES[self.figure]
        if any(not known.low <= key.value <= known.high for key in self.keys):
            raise ValueError(f"{self.figure} must lie between {known.low:g} and {known.high:g}")
        return self


class MotionKeys(Keys):
    """The keys of one figure of the motion."""

    figure: MotionFigure


class OpticsKeys(Keys):
    """The keys of one figure of the optics."""

    figure: OpticsFigure


class FalloffKeys(Keys):
    """The keys of one figure of the fall-off."""

    figure: FalloffFigure


class FringeKeys(Keys):
    """The keys of one figure of the fringes."""

    figure: FringeFigure


def keyed_once(tracks: Sequence[Keys]) -> None:
    """Raises ValueError where one figure has keys twice."""
    if len({track.figure for track in tracks}) != len(tracks):
        raise ValueError("one figure is keyed twice")
