"""Rows and queue agree again after the database went away at the wrong moment; Cancel and Try again always work."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from types import SimpleNamespace

import pytest
from benches import Bench
from procrastinate.exceptions import ConnectorException
from services import wait_for, working
from sqlalchemy.exc import OperationalError

from keen_horizon.config import Settings
from keen_horizon.jobs import running, worker
from keen_horizon.jobs.kinds import KINDS
from keen_horizon.jobs.queue import queue_name, queued
from keen_horizon.jobs.running import run_work
from keen_horizon.operations import works
from keen_horizon.store.models import Clip, ClipState, Work, WorkState


@pytest.fixture
def bench(settings: Settings, shaky) -> Bench:
    """A prepared clip; nothing of the queue is left."""
    made = Bench(settings, shaky[0])
    run_work(made.engine, made.files, made.newest().id)
    _forget_queue(made)
    return made


def _forget_queue(bench: Bench) -> None:
    bench.ask(lambda s: s.connection().exec_driver_sql("DELETE FROM procrastinate_jobs"))


def _away(*_: object, **__: object) -> None:
    raise OperationalError("SELECT 1", {}, Exception("server closed the connection unexpectedly"))


def test_the_end_of_a_job_is_noted_once_the_database_is_back(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    number = bench.measure()
    ended, failures = running.ended, []

    def late(*arguments: object) -> None:
        if len(failures) < 3:
            failures.append(1)
            _away()
        ended(*arguments)

    monkeypatch.setattr(running, "ended", late)
    monkeypatch.setattr(running, "PAUSE_S", 0.01)
    run_work(bench.engine, bench.files, number)
    assert len(failures) == 3
    assert bench.work(number).state is WorkState.DONE


def test_work_that_loses_its_database_in_the_middle_is_done_again(
    bench: Bench, monkeypatch: pytest.MonkeyPatch
) -> None:
    number, runs = bench.measure(), []
    measure = KINDS["measure"]

    def interrupted(*arguments: object) -> None:
        runs.append(1)
        if len(runs) == 1:
            _away()
        measure(*arguments)

    monkeypatch.setitem(KINDS, "measure", interrupted)
    run_work(bench.engine, bench.files, number)
    assert len(runs) == 2
    assert bench.work(number).state is WorkState.DONE


def test_a_database_that_stays_away_ends_the_work_with_words(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    number = bench.measure()
    monkeypatch.setitem(KINDS, "measure", _away)
    monkeypatch.setattr(running, "_database_back", lambda engine: False)
    run_work(bench.engine, bench.files, number)
    assert bench.work(number).state is WorkState.FAILED
    assert "The database went away" in bench.work(number).error
    assert bench.ask(lambda s: works.retry_work(s, s.get_one(Work, number))).state is WorkState.WAITING


def test_work_that_the_queue_lost_is_queued_again_and_done(bench: Bench, settings: Settings) -> None:
    """As it is left by a database that dropped between the end of the job and the note of it."""
    number = bench.measure()
    _forget_queue(bench)
    bench.ask(lambda s: setattr(s.get_one(Work, number), "state", WorkState.WORKING))
    with working(settings):
        wait_for(lambda: bench.finished(number))
    assert bench.work(number).state is WorkState.DONE


def test_reconciling_leaves_alone_what_is_in_hand(bench: Bench) -> None:
    number = bench.measure()
    assert bench.ask(works.reconcile) == []
    assert bench.ask(queued) == {queue_name(bench.work(number))}
    assert bench.ask(lambda s: s.connection().exec_driver_sql("SELECT count(*) FROM procrastinate_jobs").scalar()) == 1


def test_a_stop_that_was_wanted_is_carried_out(bench: Bench) -> None:
    number = bench.measure()
    _forget_queue(bench)

    def stuck(session) -> None:
        work = session.get_one(Work, number)
        work.state, work.stop_wanted = WorkState.WORKING, True

    bench.ask(stuck)
    assert bench.ask(works.reconcile) == []
    assert bench.work(number).state is WorkState.CANCELLED


def test_cancel_ends_at_once_what_nobody_does(bench: Bench) -> None:
    number = bench.measure()
    bench.ask(lambda s: setattr(s.get_one(Work, number), "state", WorkState.WORKING))
    bench.ask(lambda s: works.cancel_work(s, s.get_one(Work, number)))
    assert bench.work(number).state is WorkState.CANCELLED
    run_work(bench.engine, bench.files, number)  # the queue comes to it later
    assert bench.work(number).state is WorkState.CANCELLED
    again = bench.ask(lambda s: works.retry_work(s, s.get_one(Work, number))).id
    run_work(bench.engine, bench.files, again)
    assert bench.work(again).state is WorkState.DONE


def test_a_cancelled_preparation_says_so_on_its_clip(settings: Settings, shaky) -> None:
    bench = Bench(settings, shaky[0])
    number = bench.newest().id
    bench.ask(lambda s: works.cancel_work(s, s.get_one(Work, number)))
    clip = bench.ask(lambda s: s.get_one(Clip, bench.clip))
    assert (clip.state, clip.error) == (ClipState.FAILED, "Preparing this clip was cancelled.")


def in_a_thread(call: Callable[[], None]) -> None:
    """Browser tests of the same process leave an event loop running in the main thread, and there is one a thread."""
    with ThreadPoolExecutor(1) as pool:
        pool.submit(call).result()


def test_a_worker_that_looks_dead_keeps_what_it_does_itself() -> None:
    retried: list[int] = []

    class Manager:
        async def get_stalled_jobs(self, seconds_since_heartbeat: float) -> list[SimpleNamespace]:
            return [SimpleNamespace(id=number, task_kwargs={"work_id": number}) for number in (4, 5)]

        async def retry_job(self, job: SimpleNamespace) -> None:
            retried.append(job.id)

    in_a_thread(lambda: asyncio.run(worker._revive(SimpleNamespace(job_manager=Manager()), {5})))
    assert retried == [4]


def test_a_worker_outlives_its_queue(settings: Settings, shaky, monkeypatch: pytest.MonkeyPatch) -> None:
    served: list[int] = []

    async def serve(*_: object) -> None:
        served.append(1)
        if len(served) < 3:
            raise ConnectorException

    monkeypatch.setattr(worker, "_serve", serve)
    monkeypatch.setattr(worker, "HEARTBEAT_S", 0.01)
    monkeypatch.setattr(worker.resource, "setrlimit", lambda *_: None)
    in_a_thread(lambda: worker.run_worker(settings))
    assert len(served) == 3
