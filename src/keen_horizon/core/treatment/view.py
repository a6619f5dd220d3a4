"""The treatment's sphere: whether the clip is one, and the frame that is looked out of it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from keen_horizon.core.treatment.parts import MOST_KEYS, FrameNumber, Part

Ease = Literal["smooth", "straight"]
Outlook = Literal["sphere", "flat", "cylinder", "stereographic"]

WIDEST_DEG: dict[Outlook, float] = {"sphere": 360.0, "flat": 150.0, "cylinder": 360.0, "stereographic": 340.0}
NARROWEST_DEG = 5.0

Side = Annotated[int, Field(ge=16, le=8192, multiple_of=2)]
Turn = Annotated[float, Field(ge=-3600.0, le=3600.0)]


class ClipSource(Part):
    """What took the clip: a camera that sees a frame, or one that sees all around; null: as the file says."""

    camera: Literal["frame", "sphere"] | None = None


class ViewSize(Part):
    """Of the delivered picture, px."""

    width: Side
    height: Side


class ViewKey(Part):
    """Where a view looks at a frame: turned right by `yaw_deg`, up by `pitch_deg`, clockwise by `roll_deg`, and so many
    degrees wide. `ease` is how it goes on from here.
    """

    frame: FrameNumber
    yaw_deg: Turn = 0.0
    pitch_deg: float = Field(default=0.0, ge=-90.0, le=90.0)
    roll_deg: Turn = 0.0
    field_deg: float = Field(default=90.0, ge=NARROWEST_DEG, le=360.0)
    ease: Ease = "smooth"


class View(Part):
    """What is delivered of a sphere: itself, turned as its keys look, or a frame looked out of it."""

    output: Outlook = "flat"
    size: ViewSize | None = None
    keys: tuple[ViewKey, ...] = Field(default=(), max_length=MOST_KEYS)

    @model_validator(mode="after")
    def _fitting(self) -> View:
        frames = [key.frame for key in self.keys]
        if len(set(frames)) != len(frames):
            raise ValueError("two keys stand on one frame")
        if self.output == "sphere" and self.size is not None and self.size.width != 2 * self.size.height:
            raise ValueError("a sphere is delivered twice as wide as high")
        widest = WIDEST_DEG[self.output]
        if any(key.field_deg > widest for key in self.keys):
            raise ValueError(f"a {self.output} view is at most {widest:.0f} degrees wide")
        return self
