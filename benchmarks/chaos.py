"""Processes killed at random while three clips are sent, measured and rendered.

    .venv/bin/python benchmarks/chaos.py [--rounds 20] [--seed 1]

Each round kills (SIGKILL) three times, each time the worker, the web process, PostgreSQL or everything at once. After
it every original must be there, identical by its digest, every job must have ended or end when tried again, and
nothing may be left over in the work folder. Only processes that this script started are killed.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from http.client import HTTPException
from pathlib import Path
from typing import Any, TypeVar

HERE = Path(__file__).resolve().parent
sys.path.append(str(HERE.parent / "tests"))

from asking import Client, shaky_clip
from services import wait_for

CLIPS = 3
KILLS = 3
PIECE = 100_000
LONGEST_S = 180.0
TARGETS = ("worker", "serve", "postgres", "everything")

AWAY = (OSError, HTTPException, TypeError)  # of a request: killed meanwhile, starting, or half of an answer

Answer = TypeVar("Answer")


class Application:
    """The application as bin/start runs it, on its own folder and port; started again when all of it is killed."""

    def __init__(self, folder: Path) -> None:
        self.data = folder / "data"
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self._port = probe.getsockname()[1]
        self.address = f"http://127.0.0.1:{self._port}"
        self._log = (folder / "log.txt").open("ab")
        self._launcher: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Start it and wait until it answers."""
        marks = {"KEEN_HORIZON_DATA": str(self.data), "KEEN_HORIZON_PORT": str(self._port), "KEEN_HORIZON_DEMO": "no"}
        environment = {name: value for name, value in os.environ.items() if not name.startswith("KEEN_HORIZON")}
        command = [sys.executable, "-m", "keen_horizon.launch"]
        self._launcher = subprocess.Popen(command, env=environment | marks, stdout=self._log, stderr=self._log)
        wait_for(self.answers, LONGEST_S)

    def stop(self) -> None:
        """Stop it as Ctrl+C does."""
        assert self._launcher is not None
        self._launcher.send_signal(signal.SIGINT)
        self._launcher.wait(60)
        self._log.close()

    def answers(self) -> bool:
        """Whether a page can be had."""
        try:
            Client(self.address).told("GET", "/api/works")
        except (*AWAY, AssertionError):
            return False
        return True

    def kill(self, target: str) -> None:
        """SIGKILL to a part of it, or to all."""
        assert self._launcher is not None
        if target == "everything":
            self._launcher.kill()
            self._launcher.wait()
            self._kill_postgres()
            self.start()
        elif target == "postgres":
            self._kill_postgres()
        else:
            for child in _children(self._launcher.pid):
                if target.encode() in _command(child):
                    _kill(child)

    def _kill_postgres(self) -> None:
        folder = self.data / "postgres" / "data"
        with suppress(OSError, ValueError, IndexError):
            server = int((folder / "postmaster.pid").read_text().splitlines()[0])
            if str(folder).encode() in _command(server):  # the file may be older than whatever has its number now
                _kill(server)


def _children(parent: int) -> list[int]:
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            if int((folder / "stat").read_text().rpartition(")")[2].split()[1]) == parent:
                found.append(int(folder.name))
    return found


def _command(process: int) -> bytes:
    with suppress(OSError):
        return Path(f"/proc/{process}/cmdline").read_bytes()
    return b""


def _kill(process: int) -> None:
    with suppress(ProcessLookupError):
        os.kill(process, signal.SIGKILL)


class Editor:
    """Somebody who sends clips, has them measured and rendered, and tries again whatever fails."""

    def __init__(self, application: Application) -> None:
        self._application = application
        self.retries = 0

    def patiently(self, act: Callable[[Client], Answer]) -> Answer:
        """Do something until the application answers; what it refuses is an error."""
        end = time.monotonic() + LONGEST_S
        while True:
            try:
                return act(Client(self._application.address))
            except (*AWAY, AssertionError) as problem:
                if time.monotonic() > end:
                    raise AssertionError(f"refused for {LONGEST_S:.0f} s: {problem}") from problem
                time.sleep(0.2)

    def send(self, project: int, clip: Path) -> int:
        """Send a clip in pieces, going on wherever the application says; its number."""
        content = clip.read_bytes()
        begun = {"name": clip.name, "size": len(content), "digest": hashlib.sha256(content).hexdigest()}
        while True:
            upload = self.patiently(lambda client: client.told("POST", f"/api/projects/{project}/uploads", begun))
            at = upload["received"]
            if upload["clip"]:
                return int(upload["clip"])
            with suppress(*AWAY):
                client = Client(self._application.address)
                while True:
                    where = f"/api/uploads/{upload['id']}/{at}"
                    status, answer = client.ask("PUT", where, content[at : at + PIECE], "application/octet-stream")
                    if status != 200:
                        break
                    told = json.loads(answer)
                    if told["clip"]:
                        return int(told["clip"])
                    at = told["received"]
                    time.sleep(0.02)

    def finish(self, clip: int) -> None:
        """See a clip through: prepared, measured and rendered, trying again what failed."""
        self._until_done(clip, "ingest")
        for kind, task in (("measure", "measure"), ("render", "renders")):
            self.patiently(lambda client, task=task: client.told("POST", f"/api/clips/{clip}/{task}", {}))
            self._until_done(clip, kind)

    def _until_done(self, clip: int, kind: str) -> None:
        end = time.monotonic() + LONGEST_S
        while time.monotonic() < end:
            work = self._newest(clip, kind)
            if work["state"] == "done":
                return
            if work["state"] in ("failed", "cancelled"):
                self.retries += 1
                self.patiently(lambda client, work=work: client.told("POST", f"/api/works/{work['id']}/retry"))
            time.sleep(0.1)
        raise AssertionError(f"{kind} of clip {clip} is {self._newest(clip, kind)} after {LONGEST_S:.0f} s")

    def _newest(self, clip: int, kind: str) -> dict[str, Any]:
        works = self.patiently(lambda client: client.told("GET", "/api/works"))["works"]
        return max((w for w in works if w["clip"] == clip and w["kind"] == kind), key=lambda work: work["id"])


@contextmanager
def running(folder: Path) -> Iterator[Application]:
    """The application for the time of a block."""
    application = Application(folder)
    application.start()
    try:
        yield application
    finally:
        application.stop()


def one_round(application: Application, folder: Path, draw: random.Random) -> str:
    """Send, measure and render three clips while things are killed; what was killed. Raises AssertionError."""
    editor = Editor(application)
    started = {"name": f"Round {draw.randrange(10**6)}"}
    project = editor.patiently(lambda client: client.told("POST", "/api/projects", started))["id"]
    clips = [shaky_clip(folder, frames=30, seed=draw.randrange(10**6)) for _ in range(CLIPS)]
    problems: list[BaseException] = []

    def see_through(clip: Path) -> None:
        try:
            editor.finish(editor.send(project, clip))
        except BaseException as problem:
            problems.append(problem)

    editors = [threading.Thread(target=see_through, args=(clip,)) for clip in clips]
    for thread in editors:
        thread.start()
    killed = []
    for _ in range(KILLS):
        time.sleep(draw.uniform(0.3, 4))
        killed.append(draw.choice(TARGETS))
        application.kill(killed[-1])
    for thread in editors:
        thread.join()
    if problems:
        raise problems[0]
    check(application, editor, clips)
    return f"{', '.join(killed)}; {editor.retries} tried again"


def check(application: Application, editor: Editor, clips: list[Path]) -> None:
    """Every original is there as it was sent, every job has ended, and nothing is left over."""
    for clip in clips:
        digest = hashlib.sha256(clip.read_bytes()).hexdigest()
        stored = application.data / "files" / digest[:2] / f"{digest}.mp4"
        assert hashlib.sha256(stored.read_bytes()).hexdigest() == digest, clip.name
    works = editor.patiently(lambda client: client.told("GET", "/api/works"))["works"]
    still_open = [work for work in works if work["state"] in ("waiting", "working")]
    assert not still_open, still_open
    left = sorted(path.name for path in (application.data / "work").iterdir())
    assert not left, left


def main() -> int:
    """Run the rounds; 0 when all held."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rounds", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    draw = random.Random(options.seed)
    with tempfile.TemporaryDirectory(prefix="keen-horizon-chaos-") as base:
        folder = Path(base)
        folder.chmod(0o755)
        failures = 0
        with running(folder) as application:
            for number in range(1, options.rounds + 1):
                began = time.monotonic()
                try:
                    outcome = one_round(application, folder, draw)
                except AssertionError as problem:
                    outcome, failures = f"FAILED: {problem}", failures + 1
                if outcome.startswith("FAILED"):
                    print((folder / "log.txt").read_text()[-6000:])
                print(f"round {number}: {time.monotonic() - began:.0f} s, killed {outcome}", flush=True)
    return int(failures > 0)


if __name__ == "__main__":
    sys.exit(main())
