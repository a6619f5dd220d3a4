"""Doing a piece of work: its kind's job, how it ended, and what happens when the database goes away meanwhile."""

from __future__ import annotations

import logging
import time
from datetime import UTC, datetime
from errno import ENOSPC

from sqlalchemy import Engine, text
from sqlalchemy.exc import OperationalError

from keen_horizon.core.errors import KeenHorizonError, Stopped
from keen_horizon.jobs.apart import out_of_memory
from keen_horizon.jobs.kinds import KINDS
from keen_horizon.jobs.progress import Progress, announce
from keen_horizon.operations.works import ended
from keen_horizon.store.database import DISK_FULL, disk_is_full, transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Work, WorkState

log = logging.getLogger(__name__)

LONGEST_ERROR = 2000  # characters: an announcement holds 8000 bytes
AWAY_S = 600.0  # how long work waits for a database that is away; later it is found by `operations.works.reconcile`
PAUSE_S = 1.0
RUNS = 3  # how often work that lost its database is begun anew

TOO_LARGE = "This clip's pictures are too large for the memory that work may use. Export it in a smaller size."

Ended = tuple[WorkState, str | None]


def run_work(engine: Engine, files: FileStore, work_id: int) -> None:
    """Do one piece of work and note how it ended; never raises for what an editor can understand."""
    work = _begun(engine, work_id)
    if work is None:
        return
    outcome, error = _outcome(engine, files, work)
    end = time.monotonic() + AWAY_S
    while True:
        try:
            with transaction(engine) as session:
                row = session.get(Work, work_id, with_for_update=True)
                if row is not None and row.state.open:
                    ended(session, row, outcome, error and _in_editors_words(error, files, row)[:LONGEST_ERROR])
            return
        except OperationalError:
            if time.monotonic() > end:
                raise
            time.sleep(PAUSE_S)


def _begun(engine: Engine, work_id: int) -> Work | None:
    """The work's row, now at work; None where nothing is to be done any more."""
    with transaction(engine) as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None or not work.state.open:
            return None
        if work.stop_wanted:
            ended(session, work, WorkState.CANCELLED)
            return None
        work.state, work.error = WorkState.WORKING, None
        work.started_at, work.ended_at = datetime.now(UTC), None
        announce(session, work)
        return work


def _outcome(engine: Engine, files: FileStore, work: Work) -> Ended:
    for run in range(RUNS):
        try:
            KINDS[work.kind](engine, files, work, Progress(engine, work.id))
            return WorkState.DONE, None
        except Stopped:
            return WorkState.CANCELLED, None
        except OperationalError as problem:
            if disk_is_full(problem):
                return WorkState.FAILED, DISK_FULL
            log.warning("work %s lost its database (run %s)", work.id, run + 1)
            if not _database_back(engine):
                break
        except MemoryError:
            return WorkState.FAILED, TOO_LARGE
        except (KeenHorizonError, OSError) as problem:
            full = isinstance(problem, OSError) and problem.errno == ENOSPC
            return WorkState.FAILED, DISK_FULL if full else str(problem)
        except Exception as problem:
            if out_of_memory(problem):
                return WorkState.FAILED, TOO_LARGE
            log.exception("work %s failed", work.id)
            return WorkState.FAILED, "An unexpected error stopped this; the log has details. Try again."
    return WorkState.FAILED, "The database went away while this was worked on. Nothing was lost; try again."


def _database_back(engine: Engine) -> bool:
    end = time.monotonic() + AWAY_S
    while time.monotonic() < end:
        try:
            with transaction(engine) as session:
                session.execute(text("SELECT 1"))
            return True
        except OperationalError:
            time.sleep(PAUSE_S)
    return False


def _in_editors_words(error: str, files: FileStore, work: Work) -> str:
    """The core names the file it read or wrote; editors know their clip's name."""
    own = [work.clip.source_key, work.clip.proxy_key, *(path.name for path in files.work_files())]
    for name in own:
        if name:
            error = error.replace(str(files.work_path(name)), work.clip.name).replace(name, work.clip.name)
    return error
