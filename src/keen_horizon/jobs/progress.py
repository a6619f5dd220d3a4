"""Progress of a piece of work: a row written at most four times a second, announced, and read for stops."""

from __future__ import annotations

import json
import time
from typing import Any

from sqlalchemy import Engine, text
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from keen_horizon.store.database import transaction
from keen_horizon.store.models import Work

CHANNEL = "keen_horizon_work"
INTERVAL_S = 0.25


def announce(session: Session, work: Work) -> None:
    """Tell listeners about a change, when the transaction commits."""
    session.flush()
    session.execute(
        text("SELECT pg_notify(:channel, :payload)"), {"channel": CHANNEL, "payload": json.dumps(work_json(work))}
    )


def work_json(work: Work) -> dict[str, Any]:
    """What the interface shows of a piece of work."""
    left = (work.total - work.done) / work.rate if work.rate > 0 else None
    return {
        "id": work.id,
        "kind": work.kind,
        "clip": work.clip_id,
        "render": work.render_id,
        "state": str(work.state),
        "stopping": bool(work.stop_wanted and work.state.open),
        "done": work.done,
        "total": work.total,
        "rate": round(work.rate, 1),
        "left_s": None if left is None else round(left),
        "error": work.error,
        "asked_at": work.created_at.isoformat(),
        "began_at": work.started_at and work.started_at.isoformat(),
        "ended_at": work.ended_at and work.ended_at.isoformat(),
    }


class Progress:
    """Callbacks for the pipeline: `frames(done, total)` and `should_stop()`."""

    def __init__(self, engine: Engine, work_id: int) -> None:
        self._engine, self._work_id = engine, work_id
        self._written = 0.0
        self._began = time.monotonic()
        self._first: int | None = None
        self._stop = False

    def frames(self, done: int, total: int) -> None:
        """Note how many frames are done; writes when the last write is old enough."""
        now = time.monotonic()
        if self._first is None:
            self._first, self._began = done, now
        if now - self._written < INTERVAL_S and done < total:
            return
        self._written = now
        rate = (done - self._first) / max(1e-3, now - self._began)
        try:
            self._write(done, total, rate)
        except OperationalError:
            return  # the database is away for a moment; the work itself goes on

    def should_stop(self) -> bool:
        """Whether somebody asked for a stop; true too when the work's row is gone."""
        return self._stop

    def _write(self, done: int, total: int, rate: float) -> None:
        with transaction(self._engine) as session:
            work = session.get(Work, self._work_id)
            if work is None:
                self._stop = True
                return
            work.done, work.total, work.rate = done, total, rate
            self._stop = work.stop_wanted
            announce(session, work)
