"""Connecting, migrating, and one transaction at a time."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine
from sqlalchemy.orm import Session

MIGRATIONS = Path(__file__).with_name("migrations")


def connect(url: str) -> Engine:
    """An engine for a postgresql:// address; dead connections are noticed and replaced."""
    address = url.replace("postgresql://", "postgresql+psycopg://", 1)
    return create_engine(address, pool_pre_ping=True, pool_size=8, max_overflow=16)


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
