"""Starting points, and carrying a treatment to other clips."""

from __future__ import annotations

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from keen_horizon.core.starting_points import SHIPPED, for_another_clip, settings_of, started
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.material import clip_info
from keen_horizon.store.models import Clip, ClipState, StartingPoint


def starting_points(session: Session) -> list[StartingPoint]:
    """All of them, the shipped ones first; those that are missing are put there."""
    known = {point.name for point in session.scalars(select(StartingPoint))}
    for name, settings in SHIPPED.items():
        if name not in known:
            session.add(StartingPoint(name=name, settings=settings, shipped=True))
    session.flush()
    return list(session.scalars(select(StartingPoint).order_by(StartingPoint.shipped.desc(), StartingPoint.id)))


def save_starting_point(session: Session, name: str, treatment: Treatment) -> StartingPoint:
    """Keep a treatment's settings under a name; a name of one's own is written over."""
    name = name.strip()[:80]
    if not name:
        raise NotPossible("Give the starting point a name.")
    point = next((p for p in starting_points(session) if p.name.lower() == name.lower()), None)
    if point is not None and point.shipped:
        raise NotPossible(f"“{point.name}” ships with the application. Choose another name.")
    if point is None:
        point = StartingPoint(name=name, settings={})
        session.add(point)
    point.settings = settings_of(treatment)
    session.flush()
    return point


def remove_starting_point(session: Session, point: StartingPoint) -> None:
    """Forget a starting point that the editor made."""
    if point.shipped:
        raise NotPossible(f"“{point.name}” ships with the application and stays.")
    session.delete(point)


def make_default(session: Session, point: StartingPoint) -> None:
    """New clips start with this one; asking again takes that back."""
    wanted = not point.is_default
    session.execute(update(StartingPoint).values(is_default=False))
    point.is_default = wanted


def first_treatment(session: Session) -> Treatment:
    """What a new clip starts with."""
    point = session.scalar(select(StartingPoint).where(StartingPoint.is_default))
    return started(Treatment(), point.settings) if point else Treatment()


def copy_treatment(session: Session, clip: Clip, treatment: Treatment, targets: list[int]) -> list[Clip]:
    """Give a treatment to other clips of the project; each keeps its range, keys, points and lines."""
    changed = []
    for other in clip.project.clips:
        if other.id in targets and other.id != clip.id:
            if other.state is not ClipState.READY:
                raise NotPossible(f"{other.name} is not ready yet.")
            theirs = Treatment.from_json(other.draft or {})
            alike = clip_info(other).display == clip_info(clip).display
            other.draft = for_another_clip(treatment, theirs, alike=alike).to_json()
            changed.append(other)
    return changed
