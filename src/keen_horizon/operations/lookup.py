"""Finding rows by number."""

from __future__ import annotations

from typing import TypeVar

from sqlalchemy.orm import Session

from keen_horizon.operations.errors import NotThere
from keen_horizon.store.models import Base, Clip, Project, Render, StartingPoint, Upload, Work

Row = TypeVar("Row", bound=Base)

MISSING = {
    Clip: "This clip is no longer on the shelf.",
    Project: "There is no such project.",
    StartingPoint: "There is no such starting point.",
    Render: "This render no longer exists.",
    Upload: "This upload has ended. Add the file again.",
    Work: "This job no longer exists.",
}


def find(session: Session, kind: type[Row], number: int) -> Row:
    """The row with a number. Raises NotThere, saying so in the editor's words."""
    row = session.get(kind, number)
    if row is None:
        raise NotThere(MISSING[kind])
    return row
