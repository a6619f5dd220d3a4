"""One running application a data folder: a lock that ends with its process, and children that end with their parent."""

from __future__ import annotations

import ctypes
import fcntl
import os
import signal
import socket
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from keen_horizon.core.errors import KeenHorizonError

PARENT = "KEEN_HORIZON_PARENT"
_PR_SET_PDEATHSIG = 1  # <linux/prctl.h>


class NotAlone(KeenHorizonError):
    """Something else has what this start needs."""


@contextmanager
def only_instance(data: Path, address: str) -> Iterator[None]:
    """Hold a data folder for this process. Raises NotAlone, saying where the one answers that holds it."""
    data.mkdir(parents=True, exist_ok=True)
    lock = os.open(data / "instance.lock", os.O_RDWR | os.O_CREAT, 0o600)
    try:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            there = os.pread(lock, 1000, 0).decode(errors="replace").strip()
            raise NotAlone(
                f"Keen Horizon runs already with the folder {data}, at {there or 'an unknown address'}."
            ) from None
        os.ftruncate(lock, 0)
        os.pwrite(lock, address.encode(), 0)
        yield
    finally:
        os.close(lock)


def check_port(host: str, port: int) -> None:
    """Raises NotAlone where another program listens at an address."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            raise NotAlone(
                f"Port {port} of {host} cannot be used ({error.strerror}). Set KEEN_HORIZON_PORT to another one."
            ) from error


def end_with_parent() -> None:
    """Have the system end this process with the one that started it, if that one asked for it (see `child_marks`)."""
    parent = os.environ.get(PARENT)
    if parent is None:
        return
    ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != int(parent):  # it ended before this was said
        os.kill(os.getpid(), signal.SIGKILL)


def child_marks() -> dict[str, str]:
    """The environment that makes a child end with this process."""
    return {PARENT: str(os.getpid())}
