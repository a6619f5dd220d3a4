"""Connecting, migrating, and one transaction at a time."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

MIGRATIONS = Path(__file__).with_name("migrations")


CONNECTIONS = 8  # of one process: two of them and a worker's queue stay below the 20 that are allowed


def connect(url: str, connections: int = CONNECTIONS) -> Engine:
    """An engine for a postgresql:// address; dead connections are noticed and replaced."""
    address = url.replace("postgresql://", "postgresql+psycopg://", 1)
    return create_engine(address, pool_pre_ping=True, pool_size=connections, max_overflow=0, pool_timeout=20)


DISK_FULL = "The disk is full. Free some space and try again; nothing was lost."


def disk_is_full(error: DBAPIError) -> bool:
    """Whether PostgreSQL had no room for what it was to write."""
    return getattr(error.orig, "sqlstate", None) == "53100"


@contextmanager
def transaction(engine: Engine) -> Iterator[Session]:
    """A session that commits at the end, or not at all."""
    with Session(engine, expire_on_commit=False) as session, session.begin():
        yield session


def migrate(url: str) -> None:
    """Bring the database to the newest schema."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["url"] = url
    command.upgrade(config, "head")
