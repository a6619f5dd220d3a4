"""What views need: settings, the database and the files, found on the current application."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from flask import current_app
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from keen_horizon.config import Settings
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore
from keen_horizon.web.newest import Newest


@dataclass(frozen=True)
class Services:
    """The application's long-lived parts."""

    settings: Settings
    engine: Engine
    files: FileStore
    curves: Newest = field(default_factory=Newest)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """One transaction."""
        with transaction(self.engine) as session:
            yield session


def services() -> Services:
    """The current application's services."""
    found: Services = current_app.extensions["keen_horizon"]
    return found
