"""The treatment's optics: the lens, how its picture is looked at, and what they were found by."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.treatment.figures import FIGURES, FalloffKeys, FringeKeys, OpticsKeys, keyed_once
from keen_horizon.core.treatment.parts import MOST_KEYS, Coordinate, FrameNumber, LevelLine, Part

LensFamily = Literal["division", "inverse", "polynomial", "equidistant", "equisolid", "stereographic", "series"]

Corner = tuple[Coordinate, Coordinate]

MOST_MOVED = FIGURES["corner_1"].high  # of the frame's side
MOST_STOPS = 6.0
NEAREST_DEAD, FURTHEST_DEAD = 0.2, 1.5  # half-diagonals from the middle: nearer leaves no picture, further cuts none
SOFTEST = 0.4  # half-diagonals, over which a hood far out of focus darkens
Spread = Annotated[float, Field(ge=FIGURES["red_1"].low, le=FIGURES["red_1"].high)]
Transfer = Literal["bt709", "srgb", "linear", "pq", "hlg"]
SHORTEST_FOCAL, LONGEST_FOCAL = 0.05, 100.0  # half-diagonals


class LensSettings(Part):
    """A lens: its family's coefficients, radii in half-diagonals of the frame (see docs/conventions.md).

    The centre is an offset from the middle of the frame, half-diagonals; `squeeze` how much wider than tall a
    circle round it is in the picture; `p1` and `p2` the polynomial's decentring. `canvas` says how much of the
    straightened picture the frame shows: 0, a window without a gap, to 1, all of it. `enlarge` makes the
    delivered picture larger by what the middle would otherwise be shrunk.
    """

    family: LensFamily
    coefficients: tuple[float, ...] = Field(min_length=1, max_length=5)
    centre_x: float = FIGURES["centre_x"].field(0.0)
    centre_y: float = FIGURES["centre_y"].field(0.0)
    squeeze: float = FIGURES["squeeze"].field(1.0)
    p1: float = FIGURES["p1"].field(0.0)
    p2: float = FIGURES["p2"].field(0.0)
    canvas: float = FIGURES["canvas"].field(0.0)
    enlarge: bool = False

    @model_validator(mode="after")
    def _sound(self) -> LensSettings:
        family = FAMILIES[self.family]
        if len(self.coefficients) > len(family.names):
            raise ValueError(f"{self.family} has {len(family.names)} coefficients at most")
        if family.angular and self.coefficients[0] < 0:
            raise ValueError("the first coefficient of a fisheye cannot be negative")
        if (self.p1 or self.p2) and self.family != "polynomial":
            raise ValueError("only the polynomial has decentring coefficients")
        too_bent = any(abs(k) > FIGURES["coefficient_1"].high for k in self.coefficients)
        if too_bent or family.fold(np.array(self.coefficients)) < 0.3:
            raise ValueError("the lens folds over too near its middle")
        return self

    @property
    def bends(self) -> bool:
        """Whether it moves anything at all."""
        return any(self.coefficients) or bool(self.p1 or self.p2) or self.squeeze != 1


class Straightedge(Part):
    """Points (x, y) along something straight, in pixels of the upright clip, on a frame; used from three on."""

    frame: FrameNumber
    points: tuple[tuple[Coordinate, Coordinate], ...] = Field(min_length=1, max_length=64)


class CornerMark(Part):
    """Where the four corners of a flat thing lie on a frame, clockwise, in pixels of the upright clip."""

    frame: FrameNumber
    corners: tuple[Corner, Corner, Corner, Corner]

    @model_validator(mode="after")
    def _convex(self) -> CornerMark:
        sides = np.roll(self.corners, -1, 0) - np.array(self.corners)
        following = np.roll(sides, -1, 0)
        if (sides[:, 0] * following[:, 1] - sides[:, 1] * following[:, 0] <= 16).any():
            raise ValueError("the four corners must go round a flat thing clockwise, some pixels apart")
        return self


class FlatThing(Part):
    """A flat thing to follow; every mark after the first mends the track around it."""

    marks: tuple[CornerMark, ...] = Field(min_length=1, max_length=100)

    @model_validator(mode="after")
    def _distinct(self) -> FlatThing:
        if len({mark.frame for mark in self.marks}) != len(self.marks):
            raise ValueError("two marks stand on one frame")
        return self


class CameraTurn(Part):
    """The camera turned behind its straightened lens, degrees: clockwise, up, to the right."""

    roll_deg: float = FIGURES["roll_deg"].field(0.0)
    pitch_deg: float = FIGURES["pitch_deg"].field(0.0)
    yaw_deg: float = FIGURES["yaw_deg"].field(0.0)


class DeadSide(Part):
    """A straight edge beyond which no light arrives: its outward normal, degrees clockwise from the right, and its
    distance from the frame's middle in half-diagonals.
    """

    angle_deg: float = Field(ge=-180.0, le=360.0)
    distance: float = Field(ge=NEAREST_DEAD, le=FURTHEST_DEAD)


class DeadEdgeSettings(Part):
    """Where no light arrives: see `core.glass.dead`. A place counts as picture from a share `least_light` on."""

    radius: float | None = Field(default=None, ge=NEAREST_DEAD, le=FURTHEST_DEAD)
    centre_x: float = FIGURES["centre_x"].field(0.0)
    centre_y: float = FIGURES["centre_y"].field(0.0)
    sides: tuple[DeadSide, ...] = Field(default=(), max_length=8)
    softness: float = Field(default=0.0, ge=0.0, le=SOFTEST)
    least_light: float = Field(default=0.9, ge=0.05, le=1.0)

    @model_validator(mode="after")
    def _sound(self) -> DeadEdgeSettings:
        if self.radius is None and not self.sides:
            raise ValueError("a dead edge is round, straight or both: give it a radius or sides")
        if self.edge.largest_circle < NEAREST_DEAD / 2:
            raise ValueError("the dead edge leaves no picture round its middle")
        return self

    @property
    def edge(self) -> DeadEdge:
        """The edge, half of its light gone."""
        sides = tuple((float(np.radians(side.angle_deg)), side.distance) for side in self.sides)
        return DeadEdge(self.radius, complex(self.centre_x, self.centre_y), sides, self.softness)


class FalloffSettings(Part):
    """Light that falls off towards the corners: see `core.glass.falloff`; radii and the centre in half-diagonals.

    `amount` is the share that is undone, `lift_limit_stops` the most that anything is lifted. `transfer` stands in for
    what the file says of its own. `dead_edge` says where no light arrives at all; `dead_radius` alone is a circle about
    the centre, and beside a `dead_edge` it is that of the largest circle that fits. `keys` stand in for figures that
    change.
    """

    coefficients: tuple[float, ...] = Field(min_length=1, max_length=3)
    centre_x: float = FIGURES["falloff_x"].field(0.0)
    centre_y: float = FIGURES["falloff_y"].field(0.0)
    amount: float = FIGURES["falloff_amount"].field(1.0)
    lift_limit_stops: float = Field(default=2.0, ge=0.0, le=MOST_STOPS)
    transfer: Transfer | None = None
    dead_radius: float | None = Field(default=None, gt=0.0, le=FURTHEST_DEAD)
    dead_edge: DeadEdgeSettings | None = None
    keys: tuple[FalloffKeys, ...] = Field(default=(), max_length=MOST_KEYS)

    @model_validator(mode="after")
    def _sound(self) -> FalloffSettings:
        most = FIGURES["falloff_1"].high
        if any(abs(c) > most for c in self.coefficients):
            raise ValueError(f"coefficients of the fall-off lie between {-most:g} and {most:g}")
        keyed_once(self.keys)
        if self.dead_edge is not None:
            object.__setattr__(self, "dead_radius", round(self.dead_edge.edge.largest_circle, 6))
        elif self.dead_radius is not None and self.dead_radius < NEAREST_DEAD:
            raise ValueError(f"a dead edge lies {NEAREST_DEAD:g} half-diagonals from the middle at least")
        return self

    @property
    def picture_ends(self) -> DeadEdge | None:
        """The sharp edge beyond which too little light arrives to count as picture; None where all does."""
        if self.dead_edge is not None:
            return self.dead_edge.edge.where(self.dead_edge.least_light)
        if self.dead_radius is not None:
            return DeadEdge(self.dead_radius, complex(self.centre_x, self.centre_y))
        return None


class HazeSettings(Part):
    """Coloured haze along bright edges that is taken away, see `core.glass.haze`."""

    amount: float = Field(default=0.0, ge=0.0, le=1.0)
    hue_deg: float = Field(default=290.0, ge=0.0, le=360.0)
    width_deg: float = Field(default=60.0, ge=5.0, le=180.0)


class FringeSettings(Part):
    """Colours that lie apart: see `core.glass.fringe`; s and c of red and of blue, the centre in half-diagonals. `keys`
    stand in for figures that change.
    """

    red: tuple[Spread, Spread] = (0.0, 0.0)
    blue: tuple[Spread, Spread] = (0.0, 0.0)
    centre_x: float = FIGURES["fringe_x"].field(0.0)
    centre_y: float = FIGURES["fringe_y"].field(0.0)
    haze: HazeSettings = HazeSettings()
    keys: tuple[FringeKeys, ...] = Field(default=(), max_length=MOST_KEYS)

    @model_validator(mode="after")
    def _sound(self) -> FringeSettings:
        keyed_once(self.keys)
        return self


class Optics(Part):
    """Corrections of the glass, and how the straightened picture is looked at.

    `straightedges` are what a lens was found by, and `world_lines` what a turn was, kept to go on from. `corners`
    are eight shares of the frame's sides, by which its corners, clockwise from the top left, are moved (keystone).
    `focal` is the focal length in half-diagonals, for lenses whose family does not tell it. `zoom` says whether
    keyed optics keep one enlargement or each frame takes the one it needs. `flat` is a flat thing that is followed
    for others' graphics; it changes nothing here.
    """

    lens: LensSettings | None = None
    straightedges: tuple[Straightedge, ...] = Field(default=(), max_length=MOST_KEYS)
    turn: CameraTurn = CameraTurn()
    world_lines: tuple[LevelLine, ...] = Field(default=(), max_length=32)
    corners: tuple[float, float, float, float, float, float, float, float] = (0.0,) * 8
    projection: Literal["straight", "cylinder", "stereographic"] = "straight"
    focal: float | None = Field(default=None, ge=SHORTEST_FOCAL, le=LONGEST_FOCAL)
    zoom: Literal["one", "each frame"] = "one"
    keys: tuple[OpticsKeys, ...] = Field(default=(), max_length=MOST_KEYS)
    flat: FlatThing | None = None
    falloff: FalloffSettings | None = None
    fringe: FringeSettings | None = None

    @model_validator(mode="after")
    def _sound(self) -> Optics:
        if any(abs(share) > MOST_MOVED for share in self.corners):
            raise ValueError(f"a corner moves by {MOST_MOVED:g} of the frame at most")
        keyed_once(self.keys)
        return self

    def with_lens(self, lens: LensSettings, **more: object) -> Optics:
        """The same with another lens, of which as much is shown as of the one before, and other fields."""
        before = self.lens or lens
        shown = lens.model_copy(update={"canvas": before.canvas, "enlarge": before.enlarge})
        return self.model_copy(update={"lens": shown, **more})

    @property
    def active(self) -> bool:
        """Whether anything is done to the picture."""
        turned = self.turn != CameraTurn() or any(self.corners) or self.projection != "straight"
        return self.lens is not None or turned or bool(self.keys)

    @property
    def leaves_gaps(self) -> bool:
        """Whether the frame may show more than there is of the straightened picture."""
        keyed = any(key.value > 0 for track in self.keys if track.figure == "canvas" for key in track.keys)
        return self.lens is not None and (self.lens.canvas > 0 or keyed)
