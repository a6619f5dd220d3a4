"""bin/start's own process: one a data folder, and whatever ends is started again."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from random import Random

import pytest
from asking import Client
from chaos import AWAY, Application, one_round, running
from services import wait_for

from keen_horizon.store.files import FileStore


@pytest.fixture(scope="module")
def folder() -> Iterator[Path]:
    """A folder that PostgreSQL's user may enter."""
    with tempfile.TemporaryDirectory(prefix="keen-horizon-launch-", dir="/tmp") as made:
        Path(made).chmod(0o755)
        yield Path(made)


@pytest.fixture(scope="module")
def application(folder: Path) -> Iterator[Application]:
    with running(folder) as started:
        yield started


def launched(data: Path, port: int) -> subprocess.CompletedProcess[str]:
    """A start that is expected to end by itself."""
    marks = {"KEEN_HORIZON_DATA": str(data), "KEEN_HORIZON_PORT": str(port), "KEEN_HORIZON_DEMO": "no"}
    environment = {name: value for name, value in os.environ.items() if not name.startswith("KEEN_HORIZON")}
    command = [sys.executable, "-m", "keen_horizon.launch"]
    return subprocess.run(command, env=environment | marks, capture_output=True, text=True, timeout=60, check=False)


def test_a_second_start_says_where_the_first_answers(application: Application) -> None:
    port = int(application.address.rpartition(":")[2])
    second = launched(application.data, port + 1)
    assert second.returncode == 1
    assert f"runs already with the folder {application.data}, at {application.address}/" in second.stderr
    assert application.answers()


def test_a_port_in_use_is_said_before_anything_is_started(folder: Path) -> None:
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        port = other.getsockname()[1]
        start = launched(folder / "second", port)
    assert start.returncode == 1
    assert f"Port {port} of 127.0.0.1 cannot be used" in start.stderr
    assert not (folder / "second" / "postgres").exists()


def test_files_without_their_database_stop_the_start(folder: Path) -> None:
    data = folder / "third"
    files = FileStore(data)
    files.work_path("x").write_bytes(b"an original")
    key = files.keep(files.work_path("x"), ".mp4")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    start = launched(data, port)
    assert start.returncode == 1
    assert "holds stored files, but their database is not there" in start.stderr
    assert files.path(key).read_bytes() == b"an original"


def test_a_dead_database_is_started_again_on_its_port(application: Application) -> None:
    Client(application.address).told("POST", "/api/projects", {"name": "Kept"})
    application.kill("postgres")

    def made() -> dict | None:
        """A project; none while it is away, which a page that was asked for at once may not have noticed."""
        try:
            return Client(application.address).told("POST", "/api/projects", {"name": "And on"})
        except (*AWAY, AssertionError):
            return None

    assert wait_for(made, 60)["id"] > 1


def test_the_lock_ends_with_its_process(application: Application) -> None:
    application.kill("everything")
    assert application.answers()


@pytest.mark.parametrize("seed", [12, 13])
def test_killed_at_random_while_clips_come_in(application: Application, tmp_path: Path, seed: int) -> None:
    """Two of the rounds of benchmarks/chaos.py."""
    print(one_round(application, tmp_path, Random(seed)))


def test_ctrl_c_stops_everything(folder: Path) -> None:
    (folder / "fourth").mkdir()
    with running(folder / "fourth") as started:
        log = folder / "fourth" / "data" / "postgres" / "data" / "postmaster.pid"
        assert log.exists()
    assert not log.exists()
    assert not started.answers()
