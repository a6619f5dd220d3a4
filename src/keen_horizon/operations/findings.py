"""What was found about a clip: one kind of row, one query for it, and one way to ask for it, whatever it is."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from keen_horizon.core.treatment.motion import PinPoint
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.operations.clips import start_work
from keen_horizon.pipeline.flat_things import flat_key
from keen_horizon.pipeline.pinning import mark_key
from keen_horizon.store.models import Clip, Finding, Work, WorkState


@dataclass(frozen=True)
class Sought:
    """What is looked for: a `kind` of work and finding, `name` telling one from others of the kind, and what the work
    needs to know.
    """

    kind: str
    name: str = ""
    details: dict[str, Any] | None = None

    @staticmethod
    def of(work: Work) -> Sought:
        """What a piece of work looks for."""
        if work.kind == "pin":
            return the_pin(PinPoint.model_validate(work.details))
        if work.kind == "flat":
            return the_flat(Optics.model_validate(work.details))
        if work.kind == "measure" and work.details:
            return FINER_MOTION
        return OF_PLAIN if work.kind == "falloff" and work.details else Sought(work.kind)


MOTION = Sought("measure")
FINER_MOTION = Sought("measure", details={"finer": True})  # the same, with more points in larger pictures
LENS = Sought("lens")
FALLOFF = Sought("falloff")
OF_PLAIN = Sought("falloff", details={"plain": True})  # the same, from a clip of a plain wall or sky
FRINGE = Sought("fringe")


def the_pin(point: PinPoint) -> Sought:
    """The track of a pinned point, by its marks."""
    name = hashlib.sha256(mark_key(point.marks).encode()).hexdigest()
    return Sought("pin", name, point.model_dump(mode="json"))


def the_flat(optics: Optics) -> Sought:
    """The corners of the optics' flat thing, by its marks and the lens."""
    assert optics.flat is not None
    return Sought("flat", flat_key(optics.flat, optics), optics.model_dump(mode="json"))


def covering(session: Session, clip: Clip, sought: Sought, first: int, last: int) -> Finding | None:
    """What was found in the clip's pictures as they are that covers frames `first` ... `last`: finer, the smallest."""
    return session.scalar(
        select(Finding)
        .where(
            Finding.clip_id == clip.id, Finding.source_digest == clip.pictures,
            Finding.kind == sought.kind, Finding.name == sought.name,
            Finding.first <= first, Finding.last >= last,
        )
        .order_by(func.coalesce(Finding.facts["finer"].as_boolean(), False).desc(), Finding.last - Finding.first)
        .limit(1)
    )  # fmt: skip


def measured_elsewhere(session: Session, clip: Clip, sought: Sought, first: int, last: int) -> Finding | None:
    """The motion of frames `first` ... `last` as it was measured, as finely, of the same pictures on another shelf."""
    finer = func.coalesce(Finding.facts["finer"].as_boolean(), False)
    return session.scalar(
        select(Finding)
        .where(
            Finding.clip_id != clip.id, Finding.source_digest == clip.pictures,
            Finding.kind == MOTION.kind, finer.is_(sought == FINER_MOTION),
            Finding.first == first, Finding.last == last,
        )
        .order_by(Finding.id.desc())
        .limit(1)
    )  # fmt: skip


def measuring_rate(clip: Clip) -> float | None:
    """Frames a second of the clip's last measuring with as many points as usual, or of that on the shelf that its
    motion was taken from; None where that is not known.
    """
    for work in reversed(clip.works):
        usual = work.kind == MOTION.kind and work.state == WorkState.DONE and not work.details
        if usual and work.total and work.started_at and work.ended_at:  # work of before was not timed
            return work.total / max((work.ended_at - work.started_at).total_seconds(), 0.01)
    taken = (finding.facts.get("measured_fps") for finding in clip.found(MOTION.kind))
    return next((rate for rate in taken if rate), None)


def ask_for(session: Session, clip: Clip, sought: Sought, first: int, last: int, anew: bool = False) -> Work | None:
    """Queue looking for something in frames `first` ... `last`, unless that is going on; None when it was found.

    `anew` looks again where it was found.
    """
    if not anew and covering(session, clip, sought, first, last) is not None:
        return None
    for work in clip.works:
        same = (work.kind, work.first, work.last) == (sought.kind, first, last) and Sought.of(work) == sought
        if same and work.state.open:
            return work
    wanted = Work(kind=sought.kind, clip_id=clip.id, first=first, last=last, details=sought.details)
    return start_work(session, wanted)


def keep_finding(session: Session, sought: Sought, found: Finding) -> None:
    """Keep what was found, in place of what the same search found before."""
    found.kind, found.name = sought.kind, sought.name
    same = (Finding.clip_id, Finding.source_digest, Finding.kind, Finding.name, Finding.first, Finding.last)
    known = session.scalar(select(Finding).where(*(column == getattr(found, column.key) for column in same)))
    if known is not None:
        session.delete(known)
        session.flush()
    session.add(found)
