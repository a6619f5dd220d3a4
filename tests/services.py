"""Running the real worker and the real server for a test, as processes of their own."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from urllib.request import urlopen

from keen_horizon.config import Settings
from keen_horizon.store.cluster import Cluster, start_cluster
from keen_horizon.store.database import migrate


def wait_for(done: Callable[[], object], seconds: float = 180.0, every: float = 0.1) -> object:
    """Wait until `done` is true, and give what it gave."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if answer := done():
            return answer
        time.sleep(every)
    raise AssertionError(f"waited {seconds} s in vain")


def _environment(settings: Settings) -> dict[str, str]:
    return os.environ | {
        "KEEN_HORIZON_DATA": str(settings.data),
        "KEEN_HORIZON_DATABASE_URL": settings.database_url,
        "KEEN_HORIZON_MEDIA": str(settings.media),
        "KEEN_HORIZON_PORT": str(settings.port),
        "KEEN_HORIZON_HOST": settings.host,
    }


def start(settings: Settings, name: str) -> subprocess.Popen[bytes]:
    """Start `keen-horizon worker` or `serve`."""
    return subprocess.Popen([sys.executable, "-m", "keen_horizon.cli", name], env=_environment(settings))


def stop(process: subprocess.Popen[bytes], how: int = signal.SIGTERM) -> None:
    """End a process that a test started."""
    process.send_signal(how)
    try:
        process.wait(8)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


@contextmanager
def asleep(process: subprocess.Popen[bytes]) -> Iterator[None]:
    """A process stands still for the time of a block: nothing that is queued meanwhile is begun."""
    process.send_signal(signal.SIGSTOP)
    try:
        yield
    finally:
        process.send_signal(signal.SIGCONT)


@contextmanager
def throw_away_cluster() -> Iterator[Cluster]:
    """A PostgreSQL cluster with the newest schema, gone at the end."""
    folder = Path(tempfile.mkdtemp(prefix="keen-horizon-test-", dir="/tmp"))
    folder.chmod(0o755)
    made = start_cluster(folder / "postgres", durable=False)
    try:
        migrate(made.url)
        yield made
    finally:
        made.stop()
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def working(settings: Settings) -> Iterator[subprocess.Popen[bytes]]:
    """A worker for the time of a block."""
    process = start(settings, "worker")
    try:
        yield process
    finally:
        if process.poll() is None:
            stop(process)


@contextmanager
def serving(settings: Settings) -> Iterator[str]:
    """A server for the time of a block; gives its address."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    settings = replace(settings, port=port)
    address = f"http://127.0.0.1:{port}"
    process = start(settings, "serve")

    def answers() -> bool:
        try:
            return bool(urlopen(f"{address}/about", timeout=2).status == 200)
        except OSError:
            return False

    try:
        wait_for(answers)
        yield address
    finally:
        stop(process)
