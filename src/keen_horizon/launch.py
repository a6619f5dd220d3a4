"""Starting the application: database, demo project, web server and worker, and keeping them up together."""

from __future__ import annotations

import logging
import os
import signal
import socket
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

from sqlalchemy import Engine

from keen_horizon.config import PROJECT, Settings
from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.instance import check_port, child_marks, end_with_parent, only_instance
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.housekeeping import belong_together, settle_places, tidy
from keen_horizon.store.cluster import Cluster, ClusterError, bring_home, enterable, has_cluster, start_cluster
from keen_horizon.store.database import connect, migrate, transaction
from keen_horizon.store.files import DAY_S, FileStore, StoreError
from keen_horizon.store.models import Project, Work

SYSTEM_DATA = Path("/var/lib/keen-horizon")
PROCESSES = ("serve", "worker")
LOOK_S = 0.5  # between looks at whether everything is still there


def serve() -> None:
    """Run the web server until stopped."""
    from keen_horizon.serving import serve as serve_pages

    settings = _with_database()
    end_with_parent()
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        belong_together(session, FileStore(settings.data, settings.media))
    engine.dispose()
    serve_pages(settings)


def worker() -> None:
    """Run a worker until stopped."""
    from keen_horizon.jobs.worker import run_worker

    settings = _with_database()
    end_with_parent()
    run_worker(settings)


def demo() -> bool:
    """Make the demo project, unless there is a project already; whether it was made."""
    from keen_horizon.operations.demo import demo_project
    from keen_horizon.simulator.demo import write_demo

    settings = _with_database()
    files = FileStore(settings.data, settings.media)
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        if session.query(Project).first() is not None:
            return False
    folder = settings.data / "demo"
    print("making the demo clips (about a minute) ...", flush=True)
    clips = write_demo(folder)
    with transaction(engine) as session:
        demo_project(session, files, clips)
    engine.dispose()
    return True


def _await_demo(settings: Settings) -> None:
    """Return once the demo's clips are measured, so that they open with something to see; glass is measured on."""
    from keen_horizon.operations.demo import measure_demo_glass

    print("measuring them ...", flush=True)
    engine = connect(settings.database_url)
    _await_works(engine)
    with transaction(engine) as session:
        measure_demo_glass(session)
    engine.dispose()


def _await_demo_glass(settings: Settings) -> None:
    """Return once that is measured as well, and shown."""
    from keen_horizon.operations.demo import show_demo_glass

    engine = connect(settings.database_url)
    _await_works(engine)
    with transaction(engine) as session:
        show_demo_glass(session)
    engine.dispose()


def _await_works(engine: Engine, seconds: float = 120) -> None:
    """Return once no work is open, or after a time."""
    busy, end = True, time.monotonic() + seconds
    while busy and time.monotonic() < end:
        time.sleep(LOOK_S)
        with transaction(engine) as session:
            busy = any(work.state.open for work in session.query(Work))


def start() -> int:
    """Everything at once, for bin/start: returns when Ctrl+C has stopped it all."""
    logging.basicConfig(level="WARNING")
    for kind in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):  # a shell's background jobs ignore SIGINT unless told
        signal.signal(kind, signal.default_int_handler)
    settings = _own_settings()
    address = f"http://{settings.host}:{settings.port}/"
    try:
        with only_instance(settings.data, address):
            check_port(settings.host, settings.port)
            return _run(settings, address)
    except (KeenHorizonError, ClusterError) as error:
        print(f"keen-horizon: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0


def prepare(settings: Settings) -> None:
    """Bring a database to the newest schema, make sure that it is these files', and put away what nobody needs.

    Raises StoreError where database and files do not belong together; nothing is changed then.
    """
    migrate(settings.database_url)
    files = FileStore(settings.data, settings.media)
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        belong_together(session, files)
        settle_places(session, files)
    with transaction(engine) as session:
        tidy(session, files)
    engine.dispose()


def own_cluster(data: Path) -> Cluster:
    """Start the cluster of a data folder; a new one is made for a new folder only. Raises ClusterError, StoreError."""
    folder = data / "postgres"
    bring_home(folder)
    files = FileStore(data)
    if not has_cluster(folder) and (files.identity() or files.stored_keys()):
        raise StoreError(
            f"{data} holds stored files, but their database is not there ({folder} is missing or empty). Nothing was "
            "touched. Put that folder back, or restore a backup into an empty folder."
        )
    return start_cluster(folder)


def _run(settings: Settings, address: str) -> int:
    cluster = _cluster_at_last(settings.data)
    settings = replace(settings, database_url=cluster.url)
    os.environ["KEEN_HORIZON_DATABASE_URL"] = cluster.url
    os.environ["KEEN_HORIZON_DATA"] = str(settings.data)
    children: list[subprocess.Popen[bytes]] = []
    try:
        prepare(settings)
        FileStore(settings.data).forget_cache()
        made = settings.demo and demo()
        children = [_child(name) for name in PROCESSES]
        _await_answer(settings)
        if made:
            _await_demo(settings)
        print(f"Keen Horizon is at {address}  (Ctrl+C stops it)", flush=True)
        if made:
            _await_demo_glass(settings)
        _keep_up(settings, cluster, children)
    finally:
        _end(children)
        cluster.stop()
    return 0


def _cluster_at_last(data: Path, seconds: float = 20) -> Cluster:
    """The folder's cluster; one that was killed just now may take a while to go. Raises as `own_cluster`."""
    end = time.monotonic() + seconds
    while True:
        try:
            return own_cluster(data)
        except ClusterError:
            if not has_cluster(data / "postgres") or time.monotonic() > end:
                raise
            time.sleep(LOOK_S)


def _with_database() -> Settings:
    settings = Settings.from_environment()
    if not settings.database_url:
        raise NotPossible("No database is set. Use bin/start, or set KEEN_HORIZON_DATABASE_URL.")
    return settings


def _own_settings() -> Settings:
    """From the environment; a new folder that PostgreSQL's user cannot enter is not used where none is named."""
    settings = Settings.from_environment()
    default = PROJECT / "var"
    fresh = not (default / "postgres").exists() and not (default / "files").exists()
    if settings.data == default and fresh and not enterable(default):
        print(f"keen-horizon: PostgreSQL cannot enter {default}; everything is kept in {SYSTEM_DATA}", flush=True)
        return replace(settings, data=SYSTEM_DATA)
    return settings


def _child(name: str) -> subprocess.Popen[bytes]:
    # In a group of its own, so that Ctrl+C reaches it only through us, in order.
    command = [sys.executable, "-m", "keen_horizon.cli", name]
    return subprocess.Popen(command, start_new_session=True, env=os.environ | child_marks())


def _await_answer(settings: Settings, seconds: float = 60) -> None:
    """Return once the server answers, so that the printed address works."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        try:
            socket.create_connection((settings.host, settings.port), timeout=1).close()
            return
        except OSError:
            time.sleep(0.1)


def _keep_up(settings: Settings, cluster: Cluster, children: list[subprocess.Popen[bytes]]) -> None:
    """Start again whatever ends, the database included, and tidy once a day."""
    tidied = time.monotonic()
    while True:
        if not cluster.answers():
            print("the database ended and is started again", file=sys.stderr, flush=True)
            _start_again(cluster)
        for i, child in enumerate(children):
            if child.poll() is not None:
                print(f"the {PROCESSES[i]} process ended and is started again", file=sys.stderr, flush=True)
                time.sleep(1)
                children[i] = _child(PROCESSES[i])
        if time.monotonic() - tidied > DAY_S:
            tidied = time.monotonic()
            _tidy_again(settings)
        time.sleep(LOOK_S)


def _start_again(cluster: Cluster, seconds: float = 60) -> None:
    """Start a database that ended on the port that everybody knows; what is left of it may take a while to go."""
    end = time.monotonic() + seconds
    while True:
        try:
            start_cluster(cluster.folder, port=cluster.port)
            return
        except ClusterError as error:
            if time.monotonic() > end:
                print(f"keen-horizon: {error}", file=sys.stderr, flush=True)
                return  # and again at the next look
            time.sleep(LOOK_S)


def _tidy_again(settings: Settings) -> None:
    try:
        prepare(settings)
    except Exception:
        logging.getLogger(__name__).exception("tidying failed; it is tried again tomorrow")


def _end(children: list[subprocess.Popen[bytes]]) -> None:
    for child in children:
        child.terminate()
    for child in children:
        try:
            child.wait(timeout=4)
        except subprocess.TimeoutExpired:
            child.kill()  # its job is found by the missing heartbeat and goes on at the next start
            child.wait()


if __name__ == "__main__":
    sys.exit(start())
