"""What views need: settings, the database and the files, found on the current application."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from threading import Lock

from flask import current_app
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from keen_horizon.config import Settings
from keen_horizon.jobs.apart import Apart
from keen_horizon.store.cache import Cache
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore
from keen_horizon.web.changes import Changes
from keen_horizon.web.newest import Newest


@dataclass(frozen=True, kw_only=True)
class Services:
    """The application's long-lived parts; `who` tells the person who asks."""

    settings: Settings
    engine: Engine
    files: FileStore
    pictures: Cache
    changes: Changes
    who: Callable[[], str | None] = lambda: None
    apart: Apart = field(default_factory=Apart)
    curves: Newest = field(default_factory=Newest)
    solves: Newest = field(default_factory=Newest)
    solving: Lock = field(default_factory=Lock)

    @contextmanager
    def transaction(self) -> Iterator[Session]:
        """One transaction of nobody's."""
        with transaction(self.engine) as session:
            yield session

    @contextmanager
    def session(self) -> Iterator[Session]:
        """One transaction, of the person who is signed in, where people sign in."""
        person = self.who()
        with transaction(self.engine) as session:
            session.info["person"] = person
            yield session


def services() -> Services:
    """The current application's services."""
    found: Services = current_app.extensions["keen_horizon"]
    return found
