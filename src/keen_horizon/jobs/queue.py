"""The queue and how work is put into it, in the transaction that makes the row.

Cancelling is a flag on the work's row that the running task reads whenever it writes its progress, so
one mechanism serves waiting and running work alike.
"""

from __future__ import annotations

from procrastinate import App, PsycopgConnector, SyncPsycopgConnector
from sqlalchemy import text
from sqlalchemy.orm import Session

from keen_horizon.store.models import Work

HEAVY = "heavy"
TASK = "keen_horizon.work"
PRIORITIES = {
    "ingest": 3_000_000, "lens": 2_500_000, "board": 2_500_000, "measure": 2_000_000, "pin": 2_000_000,
    "flat": 2_000_000, "render": 0,
}  # fmt: skip

_deferrer = App(connector=SyncPsycopgConnector())


def worker_app(url: str) -> App:
    """The queue's application for a worker process."""
    return App(connector=PsycopgConnector(conninfo=url))


def enqueue(session: Session, work: Work) -> None:
    """Queue a piece of work that was added in this session; both commit together."""
    work.priority = PRIORITIES[work.kind]
    session.flush()
    _deferrer.configure_task(
        TASK,
        queue=HEAVY,
        priority=work.priority,
        lock=f"clip-{work.clip_id}",
        queueing_lock=_lock(work),
        connection=session.connection().connection.driver_connection,
    ).defer(work_id=work.id)


def reprioritise(session: Session, work: Work, priority: int) -> None:
    """Move waiting work in the queue: higher priorities come first."""
    work.priority = priority
    session.execute(
        text("UPDATE procrastinate_jobs SET priority = :priority WHERE queueing_lock = :lock AND status = 'todo'"),
        {"priority": priority, "lock": _lock(work)},
    )


def _lock(work: Work) -> str:
    return f"work-{work.id}"
