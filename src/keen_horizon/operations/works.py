"""Watching, cancelling and retrying background work."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from keen_horizon.jobs.progress import announce
from keen_horizon.jobs.queue import PRIORITIES, enqueue, queue_name, queued, reprioritise, underway
from keen_horizon.operations.clips import acting, retry_arrival, start_work
from keen_horizon.operations.errors import NotPossible
from keen_horizon.store.models import ClipState, Work, WorkState


def recent_works(session: Session, limit: int = 100) -> list[Work]:
    """The newest pieces of work, newest first."""
    return list(session.scalars(select(Work).order_by(Work.id.desc()).limit(limit)))


def waiting_works(session: Session) -> list[Work]:
    """Work that waits, in the order in which it will be done."""
    waiting = select(Work).where(Work.state == WorkState.WAITING).order_by(Work.priority.desc(), Work.id)
    return list(session.scalars(waiting))


def move_work(session: Session, work: Work, sooner: bool) -> None:
    """Change places with the waiting render before or after. Raises NotPossible for other work."""
    renders = [other for other in waiting_works(session) if other.kind == "render"]
    if work not in renders:
        raise NotPossible("Only renders that still wait can change places.")
    at = renders.index(work)
    there = min(max(at + (-1 if sooner else 1), 0), len(renders) - 1)
    renders.insert(there, renders.pop(at))
    for place, render in enumerate(reversed(renders)):
        reprioritise(session, render, PRIORITIES["render"] + place)
    announce(session, work)


def cancel_work(session: Session, work: Work) -> None:
    """Ask running work to stop; work that nobody does at the moment stops at once."""
    if not work.state.open:
        raise NotPossible("This job has already ended.")
    work.stop_wanted, work.stopped_by = True, acting(session)
    if work.state is WorkState.WAITING or not underway(session, work):
        ended(session, work, WorkState.CANCELLED)
    else:
        announce(session, work)


def ended(session: Session, work: Work, state: WorkState, error: str | None = None) -> None:
    """Note how a piece of work ended; a clip that was not prepared says so too."""
    work.state, work.error, work.ended_at = state, error, datetime.now(UTC)
    if work.kind == "ingest" and state is not WorkState.DONE:
        work.clip.state = ClipState.FAILED
        work.clip.error = error or "Preparing this clip was cancelled."
    announce(session, work)


def reconcile(session: Session) -> list[Work]:
    """Bring rows and queue together: open work that the queue no longer has is queued again, or ends if it was to.

    That is left behind where the database went away between the end of a job and the note of it. Returns what was
    queued again.
    """
    found = session.scalars(select(Work).where(Work.state.in_((WorkState.WAITING, WorkState.WORKING)))).all()
    in_hand, again = queued(session), []  # read after the rows: what came in between has a job, and is not among them
    for work in found:
        if queue_name(work) in in_hand:
            continue
        session.refresh(work, with_for_update=True)
        if not work.state.open:  # it ended in between
            continue
        if work.stop_wanted:
            ended(session, work, WorkState.CANCELLED)
            continue
        work.state = WorkState.WAITING
        enqueue(session, work)
        announce(session, work)
        again.append(work)
    return again


def retry_work(session: Session, work: Work) -> Work:
    """Do failed or cancelled work again."""
    if work.state not in (WorkState.FAILED, WorkState.CANCELLED):
        raise NotPossible("Only jobs that failed or were cancelled can be tried again.")
    if work.kind == "ingest":
        return retry_arrival(session, work.clip)
    fresh = Work(
        kind=work.kind, clip_id=work.clip_id, render_id=work.render_id, first=work.first, last=work.last,
        details=work.details,
    )  # fmt: skip
    return start_work(session, fresh)
