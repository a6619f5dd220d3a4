"""Finding rows by number."""

from __future__ import annotations

from typing import TypeVar

from sqlalchemy.orm import Session

from keen_horizon.operations.errors import NotThere
from keen_horizon.store.models import Base, Clip, Project, Render, StartingPoint, StoredProfile, Upload, Work

Row = TypeVar("Row", bound=Base)

MISSING = {
    Clip: "This clip is no longer on the shelf.",
    Project: "There is no such project.",
    StoredProfile: "This lens profile no longer exists.",
    StartingPoint: "There is no such starting point.",
    Render: "This render no longer exists.",
    Upload: "This upload has ended. Add the file again.",
    Work: "This job no longer exists.",
}


LARGEST_NUMBER = 2**31 - 1  # PostgreSQL's integer


def find(session: Session, kind: type[Row], number: int, *, locked: bool = False) -> Row:
    """The row with a number, `locked` until the transaction ends. Raises NotThere, in the editor's words."""
    row = session.get(kind, number, with_for_update=locked or None) if number <= LARGEST_NUMBER else None
    if row is None:
        raise NotThere(MISSING[kind])
    return row
