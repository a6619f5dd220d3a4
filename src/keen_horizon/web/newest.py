"""Answers that only the newest question deserves: a page that asks again no longer waits for what it asked before."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock

REMEMBERED = 256


class Newest:
    """Counts the questions of each asker; safe among threads."""

    def __init__(self) -> None:
        self._latest: OrderedDict[Hashable, int] = OrderedDict()
        self._count = 0
        self._lock = Lock()

    def ask(self, asker: Hashable, number: int | None = None) -> Callable[[], bool]:
        """Note a question; what is returned says whether the asker has asked again since.

        Where an asker numbers its questions, `number` tells which is newer, however they arrive.
        """
        with self._lock:
            self._count += 1
            mine = self._count if number is None else number
            self._latest[asker] = max(mine, self._latest.get(asker, mine))
            self._latest.move_to_end(asker)
            if len(self._latest) > REMEMBERED:
                self._latest.popitem(last=False)
        return lambda: self._latest.get(asker, mine) != mine
