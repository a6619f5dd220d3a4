"""The treatment's motion: what the camera should seem to do."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from keen_horizon.core.glass.shutter import FURTHEST
from keen_horizon.core.treatment.parts import MOST_FRAMES, MOST_KEYS, Coordinate, FrameNumber, Key, LevelLine, Part

Freedom = Literal["shift", "turn", "size", "tilt"]


ReadoutByHand = Annotated[float, Field(ge=-FURTHEST, le=FURTHEST)]

USUAL_FREEDOMS: tuple[Freedom, ...] = ("shift", "turn", "size")


class ResponseKey(Key):
    """A response time at a frame, seconds."""

    value: float = Field(ge=0.1, le=5.0)


class StrengthKey(Key):
    """A strength at a frame."""

    value: float = Field(ge=0.0, le=1.0)


class Ease(Part):
    """A stretch of `width` frames around `frame` where `amount` of the correction is given up."""

    frame: FrameNumber
    width: int = Field(ge=2, le=MOST_FRAMES)
    amount: float = Field(default=1.0, ge=0.0, le=1.0)


class Mark(Part):
    """Where the editor set a point: frame, and place in pixels of the upright clip with square pixels."""

    frame: FrameNumber
    x: Coordinate
    y: Coordinate


class PinPoint(Part):
    """A subject's point; every mark after the first mends the track around it."""

    marks: tuple[Mark, ...] = Field(min_length=1, max_length=MOST_KEYS)

    @model_validator(mode="after")
    def _distinct(self) -> PinPoint:
        if len({mark.frame for mark in self.marks}) != len(self.marks):
            raise ValueError("two marks stand on one frame")
        return self


class Pin(Part):
    """One point keeps its place; a second one adds turn and size. `drift_s` lets it drift, slower than that."""

    points: tuple[PinPoint, ...] = Field(default=(), max_length=2)
    drift_s: float = Field(default=0.0, ge=0.0, le=5.0)


class Level(Part):
    """Lines the editor drew; without any, what the clip itself shows tells the level."""

    lines: tuple[LevelLine, ...] = Field(default=(), max_length=MOST_KEYS)

    @model_validator(mode="after")
    def _distinct(self) -> Level:
        if len({line.frame for line in self.lines}) != len(self.lines):
            raise ValueError("two lines stand on one frame")
        return self


class Motion(Part):
    """What the camera should seem to do. `intent` null leaves the motion as shot.

    `strength` is the share of the correction that is made. Keys, where there are any, stand in for the
    one figure. `rolling_shutter` is the readout that is undone, frames: the one that was measured, where it is surely
    known, or one set by hand.
    """

    intent: Literal["hold", "glide", "pin", "level"] | None = "glide"
    response_s: float = Field(default=0.8, ge=0.1, le=5.0)
    response_keys: tuple[ResponseKey, ...] = Field(default=(), max_length=MOST_KEYS)
    strength: float = Field(default=1.0, ge=0.0, le=1.0)
    strength_keys: tuple[StrengthKey, ...] = Field(default=(), max_length=MOST_KEYS)
    ease: tuple[Ease, ...] = Field(default=(), max_length=MOST_KEYS)
    pin: Pin = Pin()
    level: Level = Level()
    freedom: tuple[Freedom, ...] = USUAL_FREEDOMS
    bend_limit_px: Literal[0] = 0
    rolling_shutter: Literal["off", "measured"] | ReadoutByHand = "measured"
    ignore: tuple[()] = ()

    @property
    def as_shot(self) -> bool:
        """Whether nothing of it needs the camera's motion."""
        return self.intent is None and self.rolling_shutter == "off"

    @model_validator(mode="after")
    def _distinct(self) -> Motion:
        if len(set(self.freedom)) != len(self.freedom):
            raise ValueError("freedom names something twice")
        for keys in (self.response_keys, self.strength_keys):
            if len({key.frame for key in keys}) != len(keys):
                raise ValueError("two keys stand on one frame")
        return self
