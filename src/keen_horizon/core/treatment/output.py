"""The treatment's delivery: how the file is written."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from keen_horizon.core.media.formats import SEQUENCES, VIDEO_FORMATS
from keen_horizon.core.treatment.parts import Part

AS_SOURCE = "source"


class Output(Part):
    """How the file is written. `quality` is the codec's constant rate factor; ProRes and pictures have none.

    `bit_rate_kbps` asks for a rate instead of a quality; `profile` for one of ProRes' kinds. Codec and container may
    both be "source": as near to the source's own as can be had (see `pipeline.like_source`). Sound is copied where the
    container takes it and encoded where not; pictures have none.
    """

    container: Literal["source", "mp4", "mov", "mkv", "webm", "zip"] = "mp4"
    codec: Literal["source", "h264", "h265", "prores", "vp9", "av1", "png", "tiff", "exr"] = "h264"
    quality: int = Field(default=18, ge=0, le=63)
    bit_rate_kbps: int | None = Field(default=None, ge=50, le=2_000_000)
    profile: Literal["proxy", "lt", "standard", "hq", "4444"] | None = None
    sound: Literal["copy", "none"] = "copy"

    @model_validator(mode="after")
    def _fitting(self) -> Output:
        if self.codec == AS_SOURCE:
            return self
        holds = ("zip",) if self.codec in SEQUENCES else VIDEO_FORMATS[self.codec].containers
        if self.container not in holds:
            raise ValueError(f"{self.codec} does not go into {self.container}; use {' or '.join(holds)}")
        return self
