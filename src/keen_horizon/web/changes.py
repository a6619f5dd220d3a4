"""Changes of background work for all pages of this process: one listener feeds every stream."""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

import psycopg

from keen_horizon.jobs.progress import CHANNEL

log = logging.getLogger(__name__)

MOST_UNREAD = 1000  # of one stream; it is then ended, and its page asks for everything anew
AGAIN_S = 1.0
QUIET_S = 5.0


class Change(NamedTuple):
    """Something that happened: `kind` "work" with the work as JSON, or "database" with "away" or "back"."""

    kind: str
    text: str


Unread = queue.Queue[Change | None]


class Changes:
    """A thread that listens to PostgreSQL, started with the first stream, and the streams it feeds."""

    def __init__(self, url: str) -> None:
        self._url = url
        self._streams: set[Unread] = set()
        self._lock = threading.Lock()
        self._listener: threading.Thread | None = None
        self._away = False

    @property
    def streams(self) -> int:
        """How many are fed now."""
        return len(self._streams)

    @contextmanager
    def stream(self) -> Iterator[Unread]:
        """A queue of all changes from now on; None in it ends the stream."""
        unread: Unread = queue.Queue(MOST_UNREAD)
        with self._lock:
            self._streams.add(unread)
            if self._away:
                unread.put(Change("database", "away"))
            if self._listener is None:
                self._listener = threading.Thread(target=self._listen_always, daemon=True, name="changes")
                self._listener.start()
        try:
            yield unread
        finally:
            with self._lock:
                self._streams.discard(unread)

    def _listen_always(self) -> None:
        while True:
            try:
                self._listen()
            except psycopg.Error as error:
                if not self._away:
                    log.warning("the database is away: %s", error)
                    self._away = True
                    self._tell(Change("database", "away"))
            threading.Event().wait(AGAIN_S)

    def _listen(self) -> None:
        with psycopg.connect(self._url, autocommit=True, connect_timeout=3) as connection:
            connection.execute(f"LISTEN {CHANNEL}")
            self._away = False
            self._tell(Change("database", "back"))  # also the first time: pages ask for what they missed until now
            while True:
                for notice in connection.notifies(timeout=QUIET_S):
                    self._tell(Change("work", notice.payload))
                connection.execute("SELECT 1")  # a connection that died silently is noticed

    def _tell(self, change: Change) -> None:
        with self._lock:
            streams = list(self._streams)
        for unread in streams:
            try:
                unread.put_nowait(change)
            except queue.Full:
                self._end(unread)

    def _end(self, unread: Unread) -> None:
        """A page that reads nothing for so long starts anew."""
        with self._lock:
            self._streams.discard(unread)
        while not unread.empty():
            unread.get_nowait()
        unread.put_nowait(None)
