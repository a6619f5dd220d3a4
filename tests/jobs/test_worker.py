"""The real worker process on the real queue: killed, restarted, cancelled, and without its database."""

from __future__ import annotations

import signal
import subprocess
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from benches import Bench
from services import start, stop, wait_for, working
from truth import SMALL, corner_errors, pair_truth, rms

from keen_horizon.config import Settings
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.operations import clips, works
from keen_horizon.operations.lookup import find
from keen_horizon.store.cluster import start_cluster
from keen_horizon.store.database import connect, migrate, transaction
from keen_horizon.store.models import Finding, Render, Work, WorkState
from keen_horizon.web import create_app

LONG = 270


@pytest.fixture(scope="module")
def long_clip(media: Path, shaky: tuple[Path, Similarities], ffmpeg: str) -> tuple[Path, Similarities]:
    """The shaken clip three times over: long enough to be interrupted."""
    clip, poses = shaky
    often = [ffmpeg, "-v", "error", "-stream_loop", "2", "-i", str(clip), "-c", "copy", str(media / "long.mp4")]
    subprocess.run(often, check=True)
    return media / "long.mp4", Similarities(np.tile(poses.z, 3), np.tile(poses.t, 3))


def test_killed_in_the_middle_of_measuring_and_of_rendering(settings: Settings, long_clip) -> None:
    source, poses = long_clip
    bench = Bench(settings, source)
    worker = start(settings, "worker")
    wait_for(bench.ready)
    measuring = bench.measure()
    wait_for(lambda: bench.reached(measuring, 150), every=0.02)
    stop(worker, signal.SIGKILL)
    assert bench.work(measuring).state is WorkState.WORKING
    with working(settings) as second:
        wait_for(lambda: bench.finished(measuring))
        assert bench.work(measuring).state is WorkState.DONE
        key = bench.ask(lambda s: s.query(Finding).one().key)
        measurement = Measurement.load(bench.files.path(key))
        assert rms(corner_errors(measurement.pairs, pair_truth(poses), SMALL)) <= 0.12
        rendering = bench.render()
        wait_for(lambda: bench.reached(rendering, 60), every=0.02)
        assert bench.leftovers()
        stop(second, signal.SIGKILL)
    with working(settings):
        wait_for(lambda: bench.finished(rendering), 90)
    assert bench.work(rendering).state is WorkState.DONE
    render = bench.ask(lambda s: s.query(Render).one())
    assert render.report["gap_pixels"] == 0
    info, _ = probe(bench.files.path(render.key))
    assert (info.frames, info.sound) == (LONG, "aac")
    assert bench.leftovers() == []


def test_running_work_stops_when_cancelled_and_can_be_tried_again(settings: Settings, long_clip) -> None:
    bench = Bench(settings, long_clip[0])
    with working(settings):
        wait_for(bench.ready)
        number = bench.measure()
        wait_for(lambda: bench.reached(number, 50), every=0.02)
        bench.ask(lambda s: works.cancel_work(s, find(s, Work, number)))
        wait_for(lambda: bench.finished(number))
        assert bench.work(number).state is WorkState.CANCELLED
        again = bench.ask(lambda s: works.retry_work(s, find(s, Work, number))).id
        wait_for(lambda: bench.finished(again))
        assert bench.work(again).state is WorkState.DONE
    assert bench.leftovers() == []


def test_work_row_and_queue_commit_together(settings: Settings, shaky) -> None:
    bench = Bench(settings, shaky[0])

    def fail(session):
        clips.start_work(session, Work(kind="ingest", clip_id=bench.clip))
        raise RuntimeError("changed my mind")

    with pytest.raises(RuntimeError):
        bench.ask(fail)
    queued = bench.ask(lambda s: s.connection().exec_driver_sql("SELECT count(*) FROM procrastinate_jobs").scalar())
    assert queued == bench.ask(lambda s: s.query(Work).count()) == 1


def test_a_lost_database_is_said_and_nothing_is_lost(settings: Settings) -> None:
    folder = Path(tempfile.mkdtemp(prefix="keen-horizon-lost-", dir="/tmp"))
    folder.chmod(0o755)
    own = start_cluster(folder / "postgres", durable=False)
    migrate(own.url)
    app = create_app(replace(settings, database_url=own.url))
    client = app.test_client()
    with transaction(connect(own.url)) as session:
        clips.new_project(session, "Kept")
    assert client.get("/", follow_redirects=True).status_code == 200
    own.stop()
    answer = client.get("/api/works")
    assert answer.status_code == 503
    assert "Nothing was lost" in answer.json["error"]
    again = start_cluster(folder / "postgres", durable=False)
    try:
        with transaction(connect(again.url)) as session:
            assert session.query(clips.Project).one().name == "Kept"
    finally:
        again.stop()


def test_cluster_starts_once_and_keeps_its_password(cluster) -> None:
    again = start_cluster(cluster.folder, durable=False)
    assert again == cluster
