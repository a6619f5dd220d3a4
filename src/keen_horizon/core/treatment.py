"""The treatment: everything done to a clip, as one open JSON document.

One definition serves the form, the API, the command line and the database. Unknown keys are errors
that name them. Keys whose corrections are not there yet accept their neutral value only, so that
documents stay readable when those arrive.
"""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from keen_horizon.core.errors import RangeError, TreatmentError

SCHEMA: Literal["keen-horizon/treatment/1"] = "keen-horizon/treatment/1"

Freedom = Literal["shift", "turn", "size"]
ALL_FREEDOMS: tuple[Freedom, ...] = ("shift", "turn", "size")


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


class Optics(_Part):
    """Corrections of the glass; none yet, so each is null."""

    lens: None = None
    falloff: None = None
    fringe: None = None


class Key(_Part):
    """A value at a frame; between keys values glide without overshoot."""

    frame: int = Field(ge=0)
    value: float


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


class Motion(_Part):
    """What the camera should seem to do. `intent` null leaves the motion as shot.

    `strength` is the share of the correction that is made. Keys, where there are any, stand in for the
    one figure.
    """

    intent: Literal["hold", "glide"] | None = "glide"
    response_s: float = Field(default=0.8, ge=0.1, le=5.0)
    response_keys: tuple[ResponseKey, ...] = ()
    strength: float = Field(default=1.0, ge=0.0, le=1.0)
    strength_keys: tuple[StrengthKey, ...] = ()
    ease: tuple[Ease, ...] = ()
    freedom: tuple[Freedom, ...] = ALL_FREEDOMS
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


class Framing(_Part):
    """How the moved picture meets the frame.

    `zoom` says whether filling uses one enlargement or a breathing one, which changes by at most
    `zoom_rate` (enlargement per second). `trim` makes the picture smaller instead of enlarging it.
    """

    edges: Literal["fill", "trim", "leave"] = "fill"
    zoom: Literal["one", "breathing"] = "one"
    zoom_rate: float = Field(default=0.1, ge=0.005, le=2.0)
    zoom_limit: float = Field(default=1.10, ge=1.0, le=3.0)
    window: Window = Window()
    gap_colour: str = Field(default="#000000", pattern=r"^#[0-9a-fA-F]{6}$")
    sharpen: float = Field(default=0.0, ge=0.0, le=2.0)
    size: OutputSize | None = None


class Deliver(_Part):
    """How the file is written."""

    container: Literal["mp4"] = "mp4"
    codec: Literal["h264"] = "h264"
    quality: int = Field(default=18, ge=0, le=40)
    sound: Literal["copy", "none"] = "copy"


class Treatment(_Part):
    """The document."""

    schema_name: Literal["keen-horizon/treatment/1"] = Field(default=SCHEMA, alias="schema")
    range: FrameRange | None = None
    optics: Optics = Optics()
    motion: Motion = Motion()
    framing: Framing = Framing()
    deliver: Deliver = Deliver()

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
