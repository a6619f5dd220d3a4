"""Calls in processes apart, under limits of memory and time: for whatever strangers' files make native code do.

A member of `Apart` is `python -m keen_horizon.jobs.apart FD`: it reads calls from a socket, answers, and ends when the
other end is closed, so it never outlives who started it. One that dies, or takes too long, is replaced.
"""

from __future__ import annotations

import logging
import queue
import resource
import socket
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from keen_horizon.core.errors import KeenHorizonError, MediaError

log = logging.getLogger(__name__)

Answer = TypeVar("Answer")

MEMORY_LIMIT = 10 << 30  # of address space, as of the worker that prepares clips
LONGEST_S = 60.0
LONGEST_WAIT_S = 60.0
MEMBERS = 2


class Apart:
    """A few processes that make calls for others; safe among threads."""

    def __init__(self, members: int = MEMBERS, memory: int = MEMORY_LIMIT, seconds: float = LONGEST_S) -> None:
        self._seconds = seconds
        self._free: queue.LifoQueue[_Member] = queue.LifoQueue()
        for _ in range(members):
            self._free.put(_Member(memory))

    def call(self, subject: str, function: Callable[..., Answer], *arguments: Any) -> Answer:
        """`function(*arguments)`, made elsewhere. `subject` names the editor's file in errors.

        Raises what the function raises of KeenHorizonError and OSError, MediaError when it needs too much memory or
        time or takes its process down, RuntimeError for what nobody foresaw.
        """
        try:
            member = self._free.get(timeout=LONGEST_WAIT_S)
        except queue.Empty:
            raise MediaError(f"{subject}: too many pictures are asked for at once. Try again in a moment.") from None
        try:
            how, found = member.ask(function, arguments, self._seconds)
        finally:
            self._free.put(member)
        if how == "answer":
            answer: Answer = found
            return answer
        if how == "error":
            raise found
        if how == "odd":
            raise RuntimeError(found)
        raise MediaError(f"{subject}: {found}")

    def close(self) -> None:
        """End all members that are not at work."""
        while not self._free.empty():
            self._free.get().end()


class _Member:
    """One process apart, started with its first call."""

    def __init__(self, memory: int) -> None:
        self._memory = memory
        self._process: subprocess.Popen[bytes] | None = None
        self._socket: Connection | None = None
        self._lock = threading.Lock()

    def ask(self, function: Callable[..., Any], arguments: tuple[Any, ...], seconds: float) -> tuple[str, Any]:
        with self._lock:
            connection = self._connection()
            try:
                connection.send((function, arguments))
                if not connection.poll(seconds):
                    self.end()
                    return "lost", f"this took longer than {seconds:.0f} s and was stopped."
                answer: tuple[str, Any] = connection.recv()
                return answer
            except (EOFError, OSError):
                log.warning("a call of %s took its process down", function.__name__)
                self.end()
                return "lost", "this file cannot be read safely. It is damaged; copy it again, or leave it out."

    def end(self) -> None:
        if self._process is not None and self._socket is not None:
            self._socket.close()
            self._process.kill()
            self._process.wait()
        self._process = self._socket = None

    def _connection(self) -> Connection:
        if self._socket is None or self._process is None or self._process.poll() is not None:
            self.end()
            ours, theirs = socket.socketpair()
            command = [sys.executable, "-m", "keen_horizon.jobs.apart", str(theirs.fileno()), str(self._memory)]
            self._process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL)
            theirs.close()
            self._socket = Connection(ours.detach())
        return self._socket


def _serve(connection: Connection) -> None:
    with suppress(EOFError, BrokenPipeError):  # who asks has gone
        while True:
            function, arguments = connection.recv()
            connection.send(_answered(function, arguments))


def _answered(function: Callable[..., Any], arguments: tuple[Any, ...]) -> tuple[str, Any]:
    try:
        return "answer", function(*arguments)
    except (KeenHorizonError, OSError) as error:
        return "error", error
    except Exception as error:
        if out_of_memory(error):
            return "lost", "its pictures are too large for the memory that may be used."
        log.exception("a call of %s failed", function.__name__)
        return "odd", repr(error)


def out_of_memory(error: Exception) -> bool:
    """Whether Python or OpenCV found no memory."""
    import cv2

    return isinstance(error, MemoryError) or (isinstance(error, cv2.error) and error.code == cv2.Error.StsNoMem)


def main() -> None:
    """Serve calls from the socket whose number the command line gives, within the memory it gives."""
    import cv2

    descriptor, memory = int(sys.argv[1]), int(sys.argv[2])
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    cv2.setNumThreads(1)
    _serve(Connection(descriptor))


if __name__ == "__main__":
    main()
