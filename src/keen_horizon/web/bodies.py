"""What requests carry: JSON documents, read within bounds and checked by pydantic before anything else sees them."""

from __future__ import annotations

import json
from typing import Annotated, Any, NoReturn, TypeVar

from flask import request
from pydantic import BaseModel, ConfigDict, Field

from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.core.nesting import DEEPEST, levels
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.lookup import LARGEST_NUMBER
from keen_horizon.operations.names import kept_name, storable

LARGEST_DOCUMENT = 8 << 20  # bytes; a treatment with every key and straightedge there may be has 3 MB

RowNumber = Annotated[int, Field(ge=1, le=LARGEST_NUMBER)]
Rows = Annotated[list[RowNumber], Field(min_length=1, max_length=10_000)]


class BadRequest(KeenHorizonError):
    """A request that cannot be understood; the message says where."""


class Body(BaseModel):
    """What a request carries: unknown keys are errors, and so are numbers that are not finite."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class SomeClips(Body):
    """Clips by number."""

    clips: Rows


Model = TypeVar("Model", bound=BaseModel)


def body(kind: type[Model]) -> Model:
    """The request's body as a model. Raises BadRequest, pydantic's ValidationError."""
    return kind.model_validate(document())


def posted_treatment() -> Treatment:
    """The treatment that a request carries. Raises BadRequest, TreatmentError."""
    return Treatment.from_json(document())


def document() -> Any:
    """The request's JSON. Raises BadRequest."""
    if (request.content_length or 0) > LARGEST_DOCUMENT:
        raise BadRequest(f"This is more than a request may carry: {LARGEST_DOCUMENT >> 20} MB of settings.")
    data = request.get_data()
    try:
        text = data.decode(json.detect_encoding(data))
        if levels(text) > DEEPEST:
            raise BadRequest("What was sent is nested too deep to be read.")
        found = json.loads(text, parse_constant=_no_number)
    except ValueError as error:
        raise BadRequest(f"What was sent is not a JSON document ({error}).") from error
    _check(found, "document")
    return found


def _no_number(name: str) -> NoReturn:
    raise ValueError(f"{name} is not a number")


def _check(value: Any, key: str) -> None:
    """Texts that a database cannot hold go no further."""
    if isinstance(value, str) and not storable(value):
        raise BadRequest(f"{key}: “{kept_name(value)}” holds characters that cannot be kept. Rename it.")
    if isinstance(value, dict):
        for name, inner in value.items():
            _check(name, key)
            _check(inner, name)
    elif isinstance(value, list):
        for inner in value:
            _check(inner, key)
