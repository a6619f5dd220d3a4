"""People who sign in where the application is shared: made, changed, checked; passwords are kept as scrypt hashes."""

from __future__ import annotations

import secrets
from functools import cache

from sqlalchemy import func, select
from sqlalchemy.orm import Session
from werkzeug.security import check_password_hash, generate_password_hash

from keen_horizon.operations.errors import NotPossible, NotThere
from keen_horizon.operations.names import storable
from keen_horizon.store.models import Person

SHORTEST_PASSWORD = 10
LONGEST_PASSWORD = 1000
LONGEST_NAME = 80


def persons(session: Session) -> list[Person]:
    """All of them, by name."""
    return list(session.scalars(select(Person).order_by(Person.name)))


def add_person(session: Session, name: str, password: str) -> Person:
    """Let somebody sign in. Raises NotPossible."""
    name = name.strip()
    if not name or len(name) > LONGEST_NAME or not storable(name) or not name.isprintable():
        raise NotPossible(f"Give a name of 1 to {LONGEST_NAME} characters.")
    if _named(session, name) is not None:
        raise NotPossible(f"There is a person {name} already. To change the password: keen-horizon person password.")
    person = Person(name=name, password=_hash(password), stamp=secrets.token_hex(8))
    session.add(person)
    session.flush()
    return person


def change_password(session: Session, name: str, password: str) -> None:
    """Give somebody another password; all of their sessions end. Raises NotThere, NotPossible."""
    person = find_person(session, name)
    person.password, person.stamp = _hash(password), secrets.token_hex(8)


def remove_person(session: Session, name: str) -> None:
    """Let somebody sign in no more; all of their sessions end. Raises NotThere."""
    session.delete(find_person(session, name))


def find_person(session: Session, name: str) -> Person:
    """A person by name. Raises NotThere."""
    person = _named(session, name.strip())
    if person is None:
        raise NotThere(f"There is no person {name}.")
    return person


def checked_person(session: Session, name: str, password: str) -> Person | None:
    """The person whose name and password these are; takes as long where there is none of that name."""
    person = _named(session, name.strip()) if storable(name) else None
    right = check_password_hash(person.password if person else _nobody(), password[:LONGEST_PASSWORD])
    return person if right else None


def _named(session: Session, name: str) -> Person | None:
    return session.scalar(select(Person).where(func.lower(Person.name) == name.lower()))


def _hash(password: str) -> str:
    if not SHORTEST_PASSWORD <= len(password) <= LONGEST_PASSWORD:
        raise NotPossible(f"A password has {SHORTEST_PASSWORD} characters or more.")
    return generate_password_hash(password)


@cache
def _nobody() -> str:
    return generate_password_hash(secrets.token_hex(16))
