"""The treatment's say in what the measurement believes: areas that are ignored, and what is to stand still."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from keen_horizon.core.treatment.parts import MOST_FRAMES, MOST_KEYS, Coordinate, FrameNumber, Part

MOST_CORNERS = 400  # of a polygon that a hand draws
MOST_AREAS = 50

Corner = tuple[Coordinate, Coordinate]


class AreaKey(Part):
    """An area's polygon on a frame: corners in pixels of the upright clip with square pixels."""

    frame: FrameNumber
    polygon: tuple[Corner, ...] = Field(min_length=3, max_length=MOST_CORNERS)


class Area(Part):
    """An area of the picture whose points are not believed; `only` one turns that round, for all outside of it.

    It goes evenly from key to key, or `follows` what is in it. Before its first frame and after its last of `span`,
    where there is one, it is not there. A `hidden` one is ignored as well, but not drawn.
    """

    name: str = Field(min_length=1, max_length=80)
    follows: bool = False
    only: bool = False
    hidden: bool = False
    span: tuple[FrameNumber, Annotated[int, Field(ge=0, le=MOST_FRAMES)]] | None = None
    keys: tuple[AreaKey, ...] = Field(min_length=1, max_length=MOST_KEYS)

    @property
    def stands_fixed(self) -> bool:
        """Whether it stays in one place of the picture all along: it belongs to the camera, not to what was filmed."""
        return len(self.keys) == 1 and not self.follows and self.span is None

    @model_validator(mode="after")
    def _distinct(self) -> Area:
        frames = [key.frame for key in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError("an area's keys must stand in the order of their frames, one on each")
        if self.span is not None and self.span[0] > self.span[1]:
            raise ValueError("an area's span ends before it begins")
        return self


class StandsStill(Part):
    """What is seen at a place of a frame is what is to stand still, px of the upright clip."""

    frame: FrameNumber
    x: Coordinate
    y: Coordinate


class Belief(Part):
    """What an editor says about what is to be believed."""

    ignore: tuple[Area, ...] = ()
    layer: StandsStill | None = None

    @property
    def says_nothing(self) -> bool:
        """Whether the measurement is to be taken as it is."""
        return not self.ignore and self.layer is None
