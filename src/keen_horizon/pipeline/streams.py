"""Running one part of a chain in a thread of its own, a few frames ahead, never more.

PyAV and OpenCV release the interpreter's lock, so decoding, warping and encoding really overlap.
"""

from __future__ import annotations

import queue
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType
from typing import Any, TypeVar

T = TypeVar("T")


def ahead(items: Iterable[T], depth: int = 3) -> Iterator[T]:
    """Yield `items`, produced by another thread at most `depth` ahead; its errors are raised here."""
    waiting: queue.Queue[tuple[str, Any]] = queue.Queue(depth)
    stop = threading.Event()

    def offer(entry: tuple[str, Any]) -> bool:
        while not stop.is_set():
            try:
                waiting.put(entry, timeout=0.1)
                return True
            except queue.Full:
                continue
        return False

    def produce() -> None:
        try:
            for item in items:
                if not offer(("item", item)):
                    return
            offer(("end", None))
        except BaseException as error:
            offer(("error", error))

    thread = threading.Thread(target=produce, daemon=True)
    thread.start()
    try:
        while True:
            kind, value = waiting.get()
            if kind == "end":
                return
            if kind == "error":
                raise value
            yield value
    finally:
        stop.set()
        thread.join()


class Behind:
    """Calls that run in order in another thread, at most `depth` of them waiting."""

    def __init__(self, depth: int = 3) -> None:
        self._pool = ThreadPoolExecutor(1)
        self._waiting: deque[Future[Any]] = deque()
        self._depth = depth

    def call(self, function: Callable[..., Any], *arguments: Any) -> None:
        """Queue a call; waits while too many are queued and raises what an earlier one raised."""
        if len(self._waiting) >= self._depth:
            self._waiting.popleft().result()
        self._waiting.append(self._pool.submit(function, *arguments))

    def __enter__(self) -> Behind:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if kind is None:
                for future in self._waiting:
                    future.result()
        finally:
            self._pool.shutdown(wait=True, cancel_futures=True)
