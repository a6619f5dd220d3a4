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
    "ingest": 3_000_000, "lens": 2_500_000, "falloff": 2_500_000, "fringe": 2_500_000, "board": 2_500_000,
    "measure": 2_000_000, "pin": 2_000_000, "flat": 2_000_000, "render": 0,
}  # fmt: skip

_deferrer = App(connector=SyncPsycopgConnector())


HEARTBEAT_S = 2.0
DEAD_AFTER_S = 8.0  # without a heartbeat


def worker_app(url: str) -> App:
    """The queue's application for a worker process."""
    return App(connector=PsycopgConnector(conninfo=url, min_size=1, max_size=3))


def enqueue(session: Session, work: Work) -> None:
    """Queue a piece of work that was added in this session; both commit together."""
    work.priority = PRIORITIES[work.kind]
    session.flush()
    _deferrer.configure_task(
        TASK,
        queue=HEAVY,
        priority=work.priority,
        lock=f"clip-{work.clip_id}",
        queueing_lock=queue_name(work),
        connection=session.connection().connection.driver_connection,
    ).defer(work_id=work.id)


def reprioritise(session: Session, work: Work, priority: int) -> None:
    """Move waiting work in the queue: higher priorities come first."""
    work.priority = priority
    session.execute(
        text("UPDATE procrastinate_jobs SET priority = :priority WHERE queueing_lock = :lock AND status = 'todo'"),
        {"priority": priority, "lock": queue_name(work)},
    )


def queued(session: Session) -> set[str]:
    """What the queue still has in hand, as `queue_name` names it."""
    rows = session.execute(text("SELECT queueing_lock FROM procrastinate_jobs WHERE status IN ('todo', 'doing')"))
    return {row[0] for row in rows}


def underway(session: Session, work: Work) -> bool:
    """Whether a worker that is alive does this work now."""
    alive = text(
        "SELECT 1 FROM procrastinate_jobs JOIN procrastinate_workers ON procrastinate_workers.id = worker_id "
        "WHERE queueing_lock = :name AND status = 'doing' "
        "AND last_heartbeat > now() - make_interval(secs => :seconds) LIMIT 1"
    )
    return session.execute(alive, {"name": queue_name(work), "seconds": DEAD_AFTER_S}).first() is not None


def queue_name(work: Work) -> str:
    """What the queue calls a piece of work."""
    return f"work-{work.id}"
