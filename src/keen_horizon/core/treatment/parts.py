"""What the parts of a treatment have in common."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator


class Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True, ser_json_inf_nan="constants")


class Key(Part):
    """A value at a frame, and how it goes on to the next key: gliding without overshoot, evenly, or not at all."""

    frame: int = Field(ge=0)
    value: float
    ease: Literal["smooth", "even", "hold"] = "smooth"


class LevelLine(Part):
    """A line drawn along something level or upright: two places in pixels of the upright clip, on a frame."""

    frame: int = Field(ge=0)
    x1: float
    y1: float
    x2: float
    y2: float

    @model_validator(mode="after")
    def _long_enough(self) -> LevelLine:
        if abs(self.x2 - self.x1) + abs(self.y2 - self.y1) < 8:
            raise ValueError("the line is too short to tell a direction")
        return self
