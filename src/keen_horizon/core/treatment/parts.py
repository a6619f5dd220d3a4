"""What the parts of a treatment have in common: frames and places within bounds, numbers that are finite."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

MOST_FRAMES = 10_000_000  # four days at 30 frames a second
MOST_KEYS = 1000  # of one thing: no editor sets as many, and each is solved for
FARTHEST_PX = 100_000.0  # from a picture's corner: twice the side of the largest picture
LARGEST_VALUE = 1_000_000.0  # of anything that is keyed; each figure has bounds of its own besides

FrameNumber = Annotated[int, Field(ge=0, le=MOST_FRAMES)]
Coordinate = Annotated[float, Field(ge=-FARTHEST_PX, le=FARTHEST_PX)]


class Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True, allow_inf_nan=False)

    compared_by_value: ClassVar[bool] = True  # see core.lately


class Key(Part):
    """A value at a frame, and how it goes on to the next key: gliding without overshoot, evenly, or not at all."""

    frame: FrameNumber
    value: float = Field(ge=-LARGEST_VALUE, le=LARGEST_VALUE)
    ease: Literal["smooth", "even", "hold"] = "smooth"


class LevelLine(Part):
    """A line drawn along something level or vertical: two places in pixels of the upright clip, on a frame."""

    frame: FrameNumber
    x1: Coordinate
    y1: Coordinate
    x2: Coordinate
    y2: Coordinate

    @model_validator(mode="after")
    def _long_enough(self) -> LevelLine:
        if abs(self.x2 - self.x1) + abs(self.y2 - self.y1) < 8:
            raise ValueError("the line is too short to tell a direction")
        return self
