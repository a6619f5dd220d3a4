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
    degrees wide. `roundness` is how far it is from flat, 0, to stereographic, 1; null: as the view's output says.
    `ease` is how it goes on from here.
    """

    frame: FrameNumber
    yaw_deg: Turn = 0.0
    pitch_deg: float = Field(default=0.0, ge=-90.0, le=90.0)
    roll_deg: Turn = 0.0
    field_deg: float = Field(default=90.0, ge=NARROWEST_DEG, le=360.0)
    roundness: float | None = Field(default=None, ge=0.0, le=1.0)
    ease: Ease = "smooth"


class View(Part):
    """What is delivered of a sphere: itself, turned as its keys look, or a frame looked out of it.

    `least_source_px` keeps a view so wide that a pixel of it stands for no fewer of the sphere's, in its middle.
    """

    output: Outlook = "flat"
    least_source_px: float | None = Field(default=None, ge=0.1, le=4.0)
    size: ViewSize | None = None
    keys: tuple[ViewKey, ...] = Field(default=(), max_length=MOST_KEYS)

    @model_validator(mode="after")
    def _fitting(self) -> View:
        frames = [key.frame for key in self.keys]
        if len(set(frames)) != len(frames):
            raise ValueError("two keys stand on one frame")
        if self.output == "sphere" and self.size is not None and self.size.width != 2 * self.size.height:
            raise ValueError("a sphere is delivered twice as wide as high")
        for key in self.keys:
            widest = widest_deg(self.output, key.roundness)
            if key.field_deg > widest:
                raise ValueError(f"a {self.output} view is at most {widest:.0f} degrees wide")
        return self


def widest_deg(output: Outlook, roundness: float | None = None) -> float:
    """How wide a view may be, degrees."""
    if roundness is None or output not in ("flat", "stereographic"):
        return WIDEST_DEG[output]
    return WIDEST_DEG["flat"] + roundness * (WIDEST_DEG["stereographic"] - WIDEST_DEG["flat"])
