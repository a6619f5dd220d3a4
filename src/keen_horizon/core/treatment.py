"""The treatment: everything done to a clip, as one open JSON document.

One definition serves the form, the API, the command line and the database. Unknown keys are errors
that name them. Keys whose corrections are not there yet accept their neutral value only, so that
documents stay readable when those arrive.
"""

from __future__ import annotations

import json
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from keen_horizon.core.errors import RangeError, TreatmentError
from keen_horizon.core.lens.families import FAMILIES
from keen_horizon.core.media.formats import SEQUENCES, VIDEO_FORMATS

SCHEMA: Literal["keen-horizon/treatment/1"] = "keen-horizon/treatment/1"

Freedom = Literal["shift", "turn", "size", "tilt"]
USUAL_FREEDOMS: tuple[Freedom, ...] = ("shift", "turn", "size")


OpticsFigure = Literal[
    "coefficient_1", "coefficient_2", "coefficient_3", "coefficient_4", "coefficient_5",
    "centre_x", "centre_y", "squeeze", "p1", "p2", "canvas", "roll_deg", "pitch_deg", "yaw_deg",
    "corner_1", "corner_2", "corner_3", "corner_4", "corner_5", "corner_6", "corner_7", "corner_8",
]  # fmt: skip
MOST_MOVED = 1.5  # of the frame's side
SHORTEST_FOCAL, LONGEST_FOCAL = 0.05, 100.0  # half-diagonals

LensFamily = Literal["division", "inverse", "polynomial", "equidistant", "equisolid", "stereographic", "series"]


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True, ser_json_inf_nan="constants")


class FrameRange(_Part):
    """The used part of a clip, frames inclusive."""

    first: int = Field(alias="in", ge=0)
    last: int = Field(alias="out", ge=0)

    @model_validator(mode="after")
    def _ordered(self) -> FrameRange:
        if self.last < self.first:
            raise ValueError("the out point lies before the in point")
        return self


class LensSettings(_Part):
    """A lens: its family's coefficients, radii in half-diagonals of the frame (see docs/conventions.md).

    The centre is an offset from the middle of the frame, half-diagonals; `squeeze` how much wider than tall a
    circle round it is in the picture; `p1` and `p2` the polynomial's decentring. `canvas` says how much of the
    straightened picture the frame shows: 0, a window without a gap, to 1, all of it. `enlarge` makes the
    delivered picture larger by what the middle would otherwise be shrunk.
    """

    family: LensFamily
    coefficients: tuple[float, ...] = Field(min_length=1, max_length=5)
    centre_x: float = Field(default=0.0, ge=-0.3, le=0.3)
    centre_y: float = Field(default=0.0, ge=-0.3, le=0.3)
    squeeze: float = Field(default=1.0, ge=0.25, le=4.0)
    p1: float = Field(default=0.0, ge=-0.2, le=0.2)
    p2: float = Field(default=0.0, ge=-0.2, le=0.2)
    canvas: float = Field(default=0.0, ge=0.0, le=1.0)
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
        if any(abs(k) > 20 for k in self.coefficients) or family.fold(np.array(self.coefficients)) < 0.3:
            raise ValueError("the lens folds over too near its middle")
        return self


class Straightedge(_Part):
    """Points (x, y) along something straight, in pixels of the upright clip, on a frame; used from three on."""

    frame: int = Field(ge=0)
    points: tuple[tuple[float, float], ...] = Field(min_length=1, max_length=64)


class LevelLine(_Part):
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


class Key(_Part):
    """A value at a frame, and how it goes on to the next key: gliding without overshoot, evenly, or not at all."""

    frame: int = Field(ge=0)
    value: float
    ease: Literal["smooth", "even", "hold"] = "smooth"


class OpticsKeys(_Part):
    """The keys of one figure of the optics, which stand in for it."""

    figure: OpticsFigure
    keys: tuple[Key, ...] = Field(min_length=1, max_length=1000)

    @model_validator(mode="after")
    def _sound(self) -> OpticsKeys:
        if len({key.frame for key in self.keys}) != len(self.keys):
            raise ValueError("two keys stand on one frame")
        low, high = _figure_range(self.figure)
        if any(not low <= key.value <= high for key in self.keys):
            raise ValueError(f"{self.figure} must lie between {low:g} and {high:g}")
        return self


class CornerMark(_Part):
    """Where the four corners of a flat thing lie on a frame, clockwise, in pixels of the upright clip."""

    frame: int = Field(ge=0)
    corners: tuple[tuple[float, float], tuple[float, float], tuple[float, float], tuple[float, float]]

    @model_validator(mode="after")
    def _convex(self) -> CornerMark:
        sides = np.roll(self.corners, -1, 0) - np.array(self.corners)
        following = np.roll(sides, -1, 0)
        if (sides[:, 0] * following[:, 1] - sides[:, 1] * following[:, 0] <= 16).any():
            raise ValueError("the four corners must go round a flat thing clockwise, some pixels apart")
        return self


class FlatThing(_Part):
    """A flat thing to follow; every mark after the first mends the track around it."""

    marks: tuple[CornerMark, ...] = Field(min_length=1, max_length=100)

    @model_validator(mode="after")
    def _distinct(self) -> FlatThing:
        if len({mark.frame for mark in self.marks}) != len(self.marks):
            raise ValueError("two marks stand on one frame")
        return self


class CameraTurn(_Part):
    """The camera turned behind its straightened lens, degrees: clockwise, up, to the right."""

    roll_deg: float = Field(default=0.0, ge=-180, le=180)
    pitch_deg: float = Field(default=0.0, ge=-60, le=60)
    yaw_deg: float = Field(default=0.0, ge=-60, le=60)


class Optics(_Part):
    """Corrections of the glass, and how the straightened picture is looked at.

    `straightedges` are what a lens was found by, and `upright_lines` what a turn was, kept to go on from. `corners`
    are eight shares of the frame's sides, by which its corners, clockwise from the top left, are moved (keystone).
    `focal` is the focal length in half-diagonals, for lenses whose family does not tell it. `zoom` says whether
    keyed optics keep one enlargement or each frame takes the one it needs. `flat` is a flat thing that is followed
    for others' graphics; it changes nothing here.
    """

    lens: LensSettings | None = None
    straightedges: tuple[Straightedge, ...] = ()
    turn: CameraTurn = CameraTurn()
    upright_lines: tuple[LevelLine, ...] = Field(default=(), max_length=32)
    corners: tuple[float, float, float, float, float, float, float, float] = (0.0,) * 8
    projection: Literal["straight", "cylinder", "stereographic"] = "straight"
    focal: float | None = Field(default=None, ge=SHORTEST_FOCAL, le=LONGEST_FOCAL)
    zoom: Literal["one", "each frame"] = "one"
    keys: tuple[OpticsKeys, ...] = ()
    flat: FlatThing | None = None
    falloff: None = None
    fringe: None = None

    @model_validator(mode="after")
    def _sound(self) -> Optics:
        if any(abs(share) > MOST_MOVED for share in self.corners):
            raise ValueError(f"a corner moves by {MOST_MOVED:g} of the frame at most")
        if len({track.figure for track in self.keys}) != len(self.keys):
            raise ValueError("one figure is keyed twice")
        return self

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


def _figure_range(figure: str) -> tuple[float, float]:
    """What a keyed figure of the optics may be."""
    if figure.startswith("coefficient_"):
        return -20.0, 20.0
    if figure.startswith("corner_"):
        return -MOST_MOVED, MOST_MOVED
    if figure in ("squeeze", "canvas"):
        return {"squeeze": (0.25, 4.0), "canvas": (0.0, 1.0)}[figure]
    most = {"centre_x": 0.3, "centre_y": 0.3, "p1": 0.2, "p2": 0.2, "roll_deg": 180.0}.get(figure, 60.0)
    return -most, most


class ResponseKey(Key):
    """A response time at a frame, seconds."""

    value: float = Field(ge=0.1, le=5.0)


class StrengthKey(Key):
    """A strength at a frame."""

    value: float = Field(ge=0.0, le=1.0)


class Ease(_Part):
    """A stretch of `width` frames around `frame` where `amount` of the correction is given up."""

    frame: int = Field(ge=0)
    width: int = Field(ge=2)
    amount: float = Field(default=1.0, ge=0.0, le=1.0)


class Mark(_Part):
    """Where the editor set a point: frame, and place in pixels of the upright clip with square pixels."""

    frame: int = Field(ge=0)
    x: float
    y: float


class PinPoint(_Part):
    """A subject's point; every mark after the first mends the track around it."""

    marks: tuple[Mark, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _distinct(self) -> PinPoint:
        if len({mark.frame for mark in self.marks}) != len(self.marks):
            raise ValueError("two marks stand on one frame")
        return self


class Pin(_Part):
    """One point keeps its place; a second one adds turn and size. `drift_s` lets it drift, slower than that."""

    points: tuple[PinPoint, ...] = Field(default=(), max_length=2)
    drift_s: float = Field(default=0.0, ge=0.0, le=5.0)


class Level(_Part):
    """Lines the editor drew; without any, what the clip itself shows tells the level."""

    lines: tuple[LevelLine, ...] = ()

    @model_validator(mode="after")
    def _distinct(self) -> Level:
        if len({line.frame for line in self.lines}) != len(self.lines):
            raise ValueError("two lines stand on one frame")
        return self


class Motion(_Part):
    """What the camera should seem to do. `intent` null leaves the motion as shot.

    `strength` is the share of the correction that is made. Keys, where there are any, stand in for the
    one figure.
    """

    intent: Literal["hold", "glide", "pin", "level"] | None = "glide"
    response_s: float = Field(default=0.8, ge=0.1, le=5.0)
    response_keys: tuple[ResponseKey, ...] = ()
    strength: float = Field(default=1.0, ge=0.0, le=1.0)
    strength_keys: tuple[StrengthKey, ...] = ()
    ease: tuple[Ease, ...] = ()
    pin: Pin = Pin()
    level: Level = Level()
    freedom: tuple[Freedom, ...] = USUAL_FREEDOMS
    bend_limit_px: Literal[0] = 0
    rolling_shutter: Literal["off"] = "off"
    ignore: tuple[()] = ()

    @model_validator(mode="after")
    def _distinct(self) -> Motion:
        if len(set(self.freedom)) != len(self.freedom):
            raise ValueError("freedom names something twice")
        for keys in (self.response_keys, self.strength_keys):
            if len({key.frame for key in keys}) != len(keys):
                raise ValueError("two keys stand on one frame")
        return self


class Window(_Part):
    """A nudge of the output window by hand: offset in px of the clip, enlargement, turn in degrees."""

    x: float = Field(default=0.0, ge=-10000, le=10000)
    y: float = Field(default=0.0, ge=-10000, le=10000)
    scale: float = Field(default=1.0, ge=0.2, le=5.0)
    turn_deg: float = Field(default=0.0, ge=-180, le=180)

    @property
    def untouched(self) -> bool:
        """Whether it changes nothing."""
        return self == Window()


class OutputSize(_Part):
    """Width and height of the delivered picture, both even."""

    width: int = Field(ge=16, le=16384, multiple_of=2)
    height: int = Field(ge=16, le=16384, multiple_of=2)


class Borrow(_Part):
    """Missing picture from frames up to `reach_s` seconds away, blended over `feather_px` of the clip.

    What no frame shows is filled by zoom or left as a gap, as `rest` says.
    """

    reach_s: float = Field(default=0.5, ge=0.03, le=2.0)
    feather_px: float = Field(default=12.0, ge=0.0, le=100.0)
    rest: Literal["fill", "leave"] = "fill"


class Framing(_Part):
    """How the moved picture meets the frame.

    `zoom` says whether filling uses one enlargement or a breathing one, which changes by at most
    `zoom_rate` (enlargement per second). `trim` makes the picture smaller instead of enlarging it.
    """

    edges: Literal["fill", "trim", "leave", "borrow"] = "fill"
    borrow: Borrow = Borrow()
    zoom: Literal["one", "breathing"] = "one"
    zoom_rate: float = Field(default=0.1, ge=0.005, le=2.0)
    zoom_limit: float = Field(default=1.10, ge=1.0, le=3.0)
    window: Window = Window()
    gap_colour: str = Field(default="#000000", pattern=r"^#[0-9a-fA-F]{6}$")
    sharpen: float = Field(default=0.0, ge=0.0, le=2.0)
    size: OutputSize | None = None

    @property
    def gaps_wanted(self) -> bool:
        """Whether gaps are left on purpose."""
        return self.edges == "leave" or (self.edges == "borrow" and self.borrow.rest == "leave")


class Deliver(_Part):
    """How the file is written. `quality` is the codec's constant rate factor; ProRes and pictures have none.

    Sound is copied where the container takes it and encoded where not; pictures have none.
    """

    container: Literal["mp4", "mov", "mkv", "webm", "zip"] = "mp4"
    codec: Literal["h264", "h265", "prores", "vp9", "av1", "png", "tiff"] = "h264"
    quality: int = Field(default=18, ge=0, le=63)
    sound: Literal["copy", "none"] = "copy"

    @model_validator(mode="after")
    def _fitting(self) -> Deliver:
        holds = ("zip",) if self.codec in SEQUENCES else VIDEO_FORMATS[self.codec].containers
        if self.container not in holds:
            raise ValueError(f"{self.codec} does not go into {self.container}; use {' or '.join(holds)}")
        return self


class Treatment(_Part):
    """The document."""

    schema_name: Literal["keen-horizon/treatment/1"] = Field(default=SCHEMA, alias="schema")
    range: FrameRange | None = None
    optics: Optics = Optics()
    motion: Motion = Motion()
    framing: Framing = Framing()
    deliver: Deliver = Deliver()

    @property
    def gaps_wanted(self) -> bool:
        """Whether gaps are left on purpose."""
        return self.framing.gaps_wanted or self.optics.leaves_gaps

    def frames(self, count: int) -> tuple[int, int]:
        """First and last frame of the range in a clip of `count` frames. Raises RangeError."""
        if self.range is None:
            return 0, count - 1
        if self.range.last >= count:
            raise RangeError(f"The range ends at frame {self.range.last}, but the clip's last frame is {count - 1}.")
        return self.range.first, self.range.last

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON, with the document's own key names."""
        return self.model_dump(mode="json", by_alias=True)

    @staticmethod
    def from_json(data: object) -> Treatment:
        """Check and read a document. Raises TreatmentError naming the key at fault."""
        return Treatment.from_text(json.dumps(data))

    @staticmethod
    def from_text(text: str) -> Treatment:
        """Check and read a document's JSON text. Raises TreatmentError."""
        try:
            return Treatment.model_validate_json(text)
        except ValidationError as error:
            raise TreatmentError(_explain(error)) from error


def _explain(error: ValidationError) -> str:
    lines = []
    for problem in error.errors():
        key = ".".join(str(part) for part in problem["loc"]) or "document"
        if problem["type"] == "extra_forbidden":
            lines.append(f"{key}: this key is not known")
        else:
            lines.append(f"{key}: {problem['msg'].removeprefix('Value error, ')}")
    return "Treatment: " + "; ".join(lines) + "."
