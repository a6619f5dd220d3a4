"""The worker process: one heavy job at a time, and a look-out for jobs whose worker died."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import resource
import time
from typing import Any

import cv2
import psycopg
from procrastinate import App
from procrastinate.exceptions import ConnectorException
from sqlalchemy import Engine

from keen_horizon.config import Settings
from keen_horizon.jobs.queue import DEAD_AFTER_S, HEARTBEAT_S, HEAVY, TASK, worker_app
from keen_horizon.jobs.running import run_work
from keen_horizon.operations.works import reconcile
from keen_horizon.store.database import connect, transaction
from keen_horizon.store.files import FileStore

log = logging.getLogger(__name__)

RECONCILE_S = 60.0
MEMORY_LIMIT = 10 << 30
CONNECTIONS = 3
AWAY = (ConnectorException, psycopg.Error, OSError)  # what a queue raises whose database went away


def run_worker(settings: Settings) -> None:
    """Work until told to stop; a queue that went away with its database is listened to again when it is back."""
    logging.basicConfig(level=os.environ.get("KEEN_HORIZON_LOG", "WARNING"))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_LIMIT, MEMORY_LIMIT))
    cv2.setNumThreads(2)
    engine = connect(settings.database_url, CONNECTIONS)
    files = FileStore(settings.data, settings.media)
    mine: set[int] = set()

    def work(work_id: int) -> None:
        mine.add(work_id)
        try:
            run_work(engine, files, work_id)
        finally:
            mine.discard(work_id)

    while True:
        app = worker_app(settings.database_url)
        app.task(name=TASK, queue=HEAVY)(work)
        try:
            asyncio.run(_serve(app, engine, mine))
            return
        except AWAY as problem:
            log.warning("the queue is away (%s); listening again", problem)
            time.sleep(HEARTBEAT_S)


async def _serve(app: App, engine: Engine, mine: set[int]) -> None:
    async with app.open_async():
        watch = asyncio.create_task(_look_out(app, engine, mine))
        try:
            await app.run_worker_async(
                queues=[HEAVY],
                concurrency=1,
                fetch_job_polling_interval=1.0,
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=DEAD_AFTER_S,
                shutdown_graceful_timeout=2.0,
                delete_jobs="always",
            )
        finally:
            watch.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await watch


async def _look_out(app: App, engine: Engine, mine: set[int]) -> None:
    """Give jobs of dead workers back to the queue; now and every minute, work that the queue has lost."""
    reconciled = -RECONCILE_S
    while True:
        try:
            await _revive(app, mine)
            if time.monotonic() - reconciled >= RECONCILE_S:
                await asyncio.to_thread(_reconcile, engine)
                reconciled = time.monotonic()
        except Exception:
            log.exception("looking for lost jobs failed; trying again")
        await asyncio.sleep(HEARTBEAT_S)


async def _revive(app: App, mine: set[int]) -> None:
    """Give jobs of dead workers back; a busy machine may make this one look dead: what it does itself it keeps."""
    jobs: Any = await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER_S)
    for job in jobs:
        if job.task_kwargs.get("work_id") not in mine:
            log.warning("job %s lost its worker and is tried again", job.id)
            await app.job_manager.retry_job(job)


def _reconcile(engine: Engine) -> None:
    with transaction(engine) as session:
        for work in reconcile(session):
            log.warning("work %s was lost by the queue and is queued again", work.id)
