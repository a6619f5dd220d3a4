"""Starting the application: database, demo project, web server and worker, and stopping them together."""

from __future__ import annotations

import logging
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

from keen_horizon.config import Settings
from keen_horizon.operations.clips import new_project, register_clip, used_keys
from keen_horizon.operations.errors import NotPossible
from keen_horizon.simulator.demo import write_demo
from keen_horizon.store.cluster import Cluster, ClusterError, start_cluster
from keen_horizon.store.database import connect, migrate, transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Project

DEMO_PROJECT = "Port Merrow: boat week"


def serve() -> None:
    """Run the web server until stopped."""
    from gunicorn.app.base import BaseApplication

    from keen_horizon.web import create_app

    settings = _settings()
    app = create_app(settings)

    class Server(BaseApplication):
        def load_config(self) -> None:
            # Threads serve streams of events side by side; solving releases the lock in the numerics.
            options = {
                "bind": f"{settings.host}:{settings.port}",
                "workers": 1,
                "threads": 24,
                "timeout": 120,
                "graceful_timeout": 1,
            }
            for key, value in (options | {"worker_class": "gthread", "loglevel": "warning"}).items():
                self.cfg.set(key, value)

        def load(self) -> object:
            return app

    Server().run()


def worker() -> None:
    """Run a worker until stopped."""
    from keen_horizon.jobs.worker import run_worker

    run_worker(_settings())


def _settings() -> Settings:
    settings = Settings.from_environment()
    if not settings.database_url:
        raise NotPossible("No database is set. Use bin/start, or set KEEN_HORIZON_DATABASE_URL.")
    return settings


def demo() -> None:
    """Make the demo project, unless there is a project already."""
    settings = _settings()
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        if session.query(Project).first() is not None:
            return
    folder = settings.data / "demo"
    print("making the demo clips (under a minute) ...", flush=True)
    clips = write_demo(folder)
    with transaction(engine) as session:
        project = new_project(session, DEMO_PROJECT)
        for clip in clips:
            register_clip(session, project.id, clip)


def start() -> int:
    """Everything at once, for bin/start: returns when Ctrl+C has stopped it all."""
    logging.basicConfig(level="WARNING")
    for kind in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):  # a shell's background jobs ignore SIGINT unless told
        signal.signal(kind, signal.default_int_handler)
    settings = Settings.from_environment()
    settings.data.mkdir(parents=True, exist_ok=True)
    try:
        cluster = start_cluster(settings.data / "postgres")
    except ClusterError as error:
        print(f"keen-horizon: {error}", file=sys.stderr)
        return 1
    os.environ["KEEN_HORIZON_DATABASE_URL"] = cluster.url
    os.environ["KEEN_HORIZON_DATA"] = str(settings.data)
    children: list[subprocess.Popen[bytes]] = []
    try:
        migrate(cluster.url)
        _sweep(settings.data, cluster)
        demo()
        children = [_child("serve"), _child("worker")]
        _await_answer(settings)
        print(f"Keen Horizon is at http://{settings.host}:{settings.port}/  (Ctrl+C stops it)", flush=True)
        return _wait(children)
    except KeyboardInterrupt:
        return 0
    finally:
        _end(children)
        cluster.stop()


def _sweep(data: Path, cluster: Cluster) -> None:
    engine = connect(cluster.url)
    with transaction(engine) as session:
        FileStore(data).sweep(used_keys(session))
    engine.dispose()


def _child(name: str) -> subprocess.Popen[bytes]:
    # In a group of its own, so that Ctrl+C reaches it only through us, in order.
    return subprocess.Popen([sys.executable, "-m", "keen_horizon.cli", name], start_new_session=True)


def _await_answer(settings: Settings, seconds: float = 60) -> None:
    """Return once the server answers, so that the printed address works."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        try:
            socket.create_connection((settings.host, settings.port), timeout=1).close()
            return
        except OSError:
            time.sleep(0.1)


def _wait(children: list[subprocess.Popen[bytes]]) -> int:
    while True:
        for i, child in enumerate(children):
            if child.poll() is not None:
                name = ("serve", "worker")[i]
                print(f"the {name} process ended and is started again", file=sys.stderr, flush=True)
                time.sleep(1)
                children[i] = _child(name)
        time.sleep(0.5)


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
