"""The treatment: everything done to a clip, as one open JSON document.

One definition serves the form, the API, the command line and the database. Unknown keys are errors
that name them. Keys whose corrections are not there yet accept their neutral value only, so that
documents stay readable when those arrive.
"""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import Field, ValidationError, model_validator

from keen_horizon.core.errors import RangeError, TreatmentError
from keen_horizon.core.treatment.edges import Edges
from keen_horizon.core.treatment.former import with_present_names
from keen_horizon.core.treatment.motion import Motion
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.core.treatment.output import Output
from keen_horizon.core.treatment.parts import FrameNumber, Part
from keen_horizon.core.treatment.view import ClipSource, View

SCHEMA: Literal["keen-horizon/treatment/2"] = "keen-horizon/treatment/2"


class FrameRange(Part):
    """The used part of a clip, frames inclusive."""

    first: FrameNumber = Field(alias="in")
    last: FrameNumber = Field(alias="out")

    @model_validator(mode="after")
    def _ordered(self) -> FrameRange:
        if self.last < self.first:
            raise ValueError("the out point lies before the in point")
        return self


class Treatment(Part):
    """The document."""

    schema_name: Literal["keen-horizon/treatment/2"] = Field(default=SCHEMA, alias="schema")
    range: FrameRange | None = None
    source: ClipSource = ClipSource()
    optics: Optics = Optics()
    motion: Motion = Motion()
    edges: Edges = Edges()
    view: View | None = None
    output: Output = Output()

    @model_validator(mode="before")
    @classmethod
    def _present(cls, document: Any) -> Any:
        return with_present_names(document, SCHEMA)

    @property
    def gaps_wanted(self) -> bool:
        """Whether gaps are left on purpose."""
        return self.edges.gaps_wanted or self.optics.leaves_gaps

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
        try:
            text = json.dumps(data)
        except RecursionError as error:
            raise TreatmentError("Treatment: the document is nested too deep.") from error
        return Treatment.from_text(text)

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
