"""The queue and how work is put into it, in the transaction that makes the row.

Cancelling is a flag on the work's row that the running task reads whenever it writes its progress, so
one mechanism serves waiting and running work alike.
"""

from __future__ import annotations

from procrastinate import App, PsycopgConnector, SyncPsycopgConnector
from sqlalchemy.orm import Session

from keen_horizon.store.models import Work

HEAVY = "heavy"
TASK = "keen_horizon.work"
PRIORITIES = {"ingest": 20, "measure": 10, "render": 0}

_deferrer = App(connector=SyncPsycopgConnector())


def worker_app(url: str) -> App:
    """The queue's application for a worker process."""
    return App(connector=PsycopgConnector(conninfo=url))


def enqueue(session: Session, work: Work) -> None:
    """Queue a piece of work that was added in this session; both commit together."""
    session.flush()
    _deferrer.configure_task(
        TASK,
        queue=HEAVY,
        priority=PRIORITIES[work.kind],
        lock=f"clip-{work.clip_id}",
        queueing_lock=f"work-{work.id}",
        connection=session.connection().connection.driver_connection,
    ).defer(work_id=work.id)
