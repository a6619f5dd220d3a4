"""The treatment's motion: what the camera should seem to do."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from keen_horizon.core.glass.shutter import FURTHEST
from keen_horizon.core.treatment.believing import MOST_AREAS, Area, Belief, StandsStill
from keen_horizon.core.treatment.figures import FIGURES, MotionFigure, MotionKeys, keyed_once
from keen_horizon.core.treatment.parts import MOST_FRAMES, MOST_KEYS, Coordinate, FrameNumber, Key, LevelLine, Part

Freedom = Literal["shift", "turn", "size", "tilt"]


ReadoutByHand = Annotated[float, Field(ge=-FURTHEST, le=FURTHEST)]

FURTHEST_BEND_PX = 24.0  # more than a picture two thousand pixels wide stands (a choice)

USUAL_FREEDOMS: tuple[Freedom, ...] = ("shift", "turn", "size")


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
    """One point keeps its place; a second one adds turn and size. `drift_s` lets it drift, slower than that; on a
    sphere, the picture follows it by `lag_s` late.
    """

    points: tuple[PinPoint, ...] = Field(default=(), max_length=2)
    drift_s: float = Field(default=0.0, ge=0.0, le=5.0)
    lag_s: float = Field(default=0.0, ge=0.0, le=5.0)


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

    With `level_glide`, Level has the rest of a frame's motion glide, by the response time; a sphere's heading always
    does. `strength` is the share of the correction that is made. `keys`, where there are any, stand in for a
    figure. `rolling_shutter` is the readout that is undone, frames: the one that was measured, where it is surely
    known, or one set by hand. Points in areas of `ignore` are not believed; `layer` says what is to stand still, where
    that is not what the measurement takes for the background.
    """

    intent: Literal["hold", "glide", "pin", "level"] | None = "glide"
    response_s: float = FIGURES["response_s"].field(0.8)
    strength: float = FIGURES["strength"].field(1.0)
    keys: tuple[MotionKeys, ...] = ()
    ease: tuple[Ease, ...] = Field(default=(), max_length=MOST_KEYS)
    pin: Pin = Pin()
    level: Level = Level()
    level_glide: bool = False
    freedom: tuple[Freedom, ...] = USUAL_FREEDOMS
    bend_limit_px: float = Field(default=0.0, ge=0.0, le=FURTHEST_BEND_PX)
    rolling_shutter: Literal["off", "measured"] | ReadoutByHand = "measured"
    ignore: tuple[Area, ...] = Field(default=(), max_length=MOST_AREAS)
    layer: StandsStill | None = None

    @property
    def glides_level(self) -> bool:
        """Whether a frame is put upright and the rest of its motion glides."""
        return self.intent == "level" and self.level_glide

    @property
    def bends(self) -> bool:
        """Whether the picture may be bent: where it is steadied as a whole, and a limit is set."""
        return self.bend_limit_px > 0 and self.steadies_whole

    @property
    def steadies_whole(self) -> bool:
        """Whether all that stands still is to seem to: not a subject, nor the level alone."""
        return self.intent in ("hold", "glide") or self.glides_level

    @property
    def belief(self) -> Belief:
        """What is said about what is to be believed."""
        return Belief(ignore=self.ignore, layer=self.layer)

    @property
    def as_shot(self) -> bool:
        """Whether nothing of it needs the camera's motion."""
        return self.intent is None and self.rolling_shutter == "off"

    @field_validator("rolling_shutter", mode="before")
    @classmethod
    def _readout(cls, value: object) -> object:
        number = isinstance(value, int | float) and not isinstance(value, bool) and -FURTHEST <= value <= FURTHEST
        if not number and value not in ("off", "measured"):
            raise ValueError(
                f'should be "off", "measured", or how long rows are read, {-FURTHEST} to {FURTHEST} frames'
            )
        return value

    @model_validator(mode="after")
    def _distinct(self) -> Motion:
        if len(set(self.freedom)) != len(self.freedom):
            raise ValueError("freedom names something twice")
        keyed_once(self.keys)
        return self

    def keyed(self, figure: MotionFigure) -> tuple[Key, ...]:
        """The keys that stand in for a figure, if there are any."""
        return next((track.keys for track in self.keys if track.figure == figure), ())
