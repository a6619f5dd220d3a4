"""A lens profile: a named lens with what it was measured on, an open JSON document.

Radii are in half-diagonals of the frame, so a profile fits every resolution of its own aspect. The canvas,
how much of the straightened picture is shown and how large, belongs to a clip and is no part of it.
"""

from __future__ import annotations

import unicodedata
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, field_validator

from keen_horizon.core.errors import ProfileError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.shutter import FURTHEST
from keen_horizon.core.lens.lens import fisheye_of
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import (
    LONGEST_FOCAL,
    SHORTEST_FOCAL,
    FalloffSettings,
    FringeSettings,
    LensSettings,
)

SCHEMA: Literal["keen-horizon/lens-profile/1"] = "keen-horizon/lens-profile/1"
ASPECT_TOLERANCE = 0.01
LONGEST_READOUT_S = 0.2  # the furthest readout at six frames a second


def _printable(text: Any) -> Any:
    """A text without control characters and halves of surrogate pairs, which some files have in their names."""
    if not isinstance(text, str):
        return text
    return "".join(" " if unicodedata.category(letter) in ("Cc", "Cs") else letter for letter in text).strip()


Text = Annotated[str, BeforeValidator(_printable)]


class Profile(BaseModel):
    """The document. `width` and `height` are those of the upright picture the lens was found on.

    `focal` is the focal length in half-diagonals of the frame where it is known; fisheyes tell it by themselves.
    `readout_s` is how long the sensor reads its rows in this mode, seconds, where known; below 0 the last row first.
    `falloff` is how its light falls off, `fringe` how its colours lie apart, where known.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True, allow_inf_nan=False)

    schema_name: Literal["keen-horizon/lens-profile/1"] = Field(default=SCHEMA, alias="schema")
    name: Text = Field(min_length=1, max_length=80)
    camera: Text = Field(default="", max_length=80)
    mode: Text = Field(default="", max_length=80)
    note: Text = Field(default="", max_length=400)
    width: int = Field(ge=16, le=32768)
    height: int = Field(ge=16, le=32768)
    error_px: float | None = Field(default=None, ge=0)
    focal: float | None = Field(default=None, ge=SHORTEST_FOCAL, le=LONGEST_FOCAL)
    readout_s: float | None = Field(default=None, ge=-LONGEST_READOUT_S, le=LONGEST_READOUT_S)
    falloff: FalloffSettings | None = None
    fringe: FringeSettings | None = None
    lens: LensSettings

    @field_validator("falloff", "fringe")
    @classmethod
    def _without_keys(cls, part: FalloffSettings | FringeSettings | None) -> FalloffSettings | FringeSettings | None:
        """Keys stand on frames of one clip, and are no part of a lens."""
        return part and part.model_copy(update={"keys": ()})

    @property
    def size(self) -> Size:
        """The picture's size."""
        return Size(self.width, self.height)

    def fits(self, size: Size) -> bool:
        """Whether a picture of this size has the profile's aspect."""
        ratio = (size.width / size.height) / (self.width / self.height)
        return abs(ratio - 1) < ASPECT_TOLERANCE

    def applied(self, treatment: Treatment, name: str, size: Size, rate: float) -> Treatment:
        """A treatment of the clip `name`, `rate` frames a second, with this lens and what is known of its glass.

        Its canvas stays, and so does its lens where the profile knows of none. Raises ProfileError.
        """
        if not self.fits(size):
            raise ProfileError(
                f"{name}: its picture is {size.width}×{size.height}, the profile “{self.name}” was made for "
                f"{self.width}×{self.height}. Choose a profile of the same aspect."
            )
        glass = {name: part for name in ("falloff", "fringe") if (part := getattr(self, name)) is not None}
        lens_known = self.lens.bends or self.focal is not None
        optics = treatment.optics.with_lens(self.lens, focal=self.focal) if lens_known else treatment.optics
        changed: dict[str, Any] = {"optics": optics.model_copy(update=glass)}
        if self.readout_s is not None:
            readout = round(min(FURTHEST, max(-FURTHEST, self.readout_s * rate)), 4)
            changed["motion"] = treatment.motion.model_copy(update={"rolling_shutter": readout})
        return treatment.model_copy(update=changed)

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON, with the document's own key names."""
        return self.model_dump(mode="json", by_alias=True)

    @staticmethod
    def from_json(data: object) -> Profile:
        """Check and read a document. Raises ProfileError naming the key at fault."""
        try:
            return Profile.model_validate(data)
        except ValidationError as error:
            problem = error.errors()[0]
            key = ".".join(str(part) for part in problem["loc"]) or "document"
            raise ProfileError(f"Lens profile: {key}: {problem['msg'].removeprefix('Value error, ')}.") from error


def profile_of(name: str, size: Size, lens: LensSettings, **about: Any) -> Profile:
    """A profile of a lens that was set on pictures of this size. Raises ProfileError."""
    plain = lens.model_copy(update={"canvas": 0.0, "enlarge": False})
    document = {"name": name.strip(), "width": size.width, "height": size.height, "lens": plain.model_dump(), **about}
    return Profile.from_json(document)


def _fisheye(name: str, mode: str, family: str, diagonal_deg: float, note: str) -> Profile:
    lens = fisheye_of(family, diagonal_deg)
    settings = LensSettings.model_validate({"family": family, "coefficients": np.round(lens.k, 5).tolist()})
    return profile_of(name, Size(1920, 1080), settings, camera="made up", mode=mode, note=note)


def starters() -> list[Profile]:
    """Made-up profiles for common fields of view, to begin with where nothing was measured."""
    wavy = LensSettings(family="division", coefficients=(-0.06, 0.075))
    return [
        _fisheye("Drone, 84° corner to corner", "video, whole sensor", "equidistant", 84, "a slight barrel"),
        _fisheye("Action camera, 120°", "linear part of the sensor", "equidistant", 120, "a plain barrel"),
        _fisheye("Action camera, 150°", "whole sensor", "equidistant", 150, "a strong barrel"),
        _fisheye("Fisheye, 170°", "whole sensor", "equisolid", 170, "nearly a half sphere, corner to corner"),
        profile_of(
            "Phone, wide, moustache", Size(1920, 1080), wavy, camera="made up", mode="video",
            note="barrel in the middle, pincushion in the corners",
        ),
    ]  # fmt: skip
