"""The commands that keep a data folder: backing it up, restoring it, and the people who sign in."""

from __future__ import annotations

import argparse
import getpass
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from keen_horizon.config import Settings
from keen_horizon.core.errors import KeenHorizonError


def add_keeping(commands: Any) -> None:
    """Add the commands to a parser's."""
    backup = commands.add_parser("backup", help="back up the data folder while everything runs, to a .tar or a folder")
    backup.add_argument("target", type=Path, metavar="FILE|FOLDER")
    backup.set_defaults(run=_backup)
    restore = commands.add_parser("restore", help="make the data folder, which must be empty, of a backup")
    restore.add_argument("source", type=Path, metavar="FILE|FOLDER")
    restore.set_defaults(run=_restore)
    person = commands.add_parser("person", help="who may sign in where the application is shared")
    actions = person.add_subparsers(required=True, metavar="ACTION")
    for name, text, run in (
        ("add", "let somebody sign in; the password is asked for, or read from standard input", _add_person),
        ("password", "give somebody another password; their sessions end", _change_password),
        ("remove", "let somebody sign in no more; their sessions end", _remove_person),
    ):
        action = actions.add_parser(name, help=text)
        action.add_argument("name")
        action.set_defaults(run=run)
    actions.add_parser("list", help="list them").set_defaults(run=_list_persons)


def _backup(options: argparse.Namespace) -> None:
    from keen_horizon.operations.backup import back_up
    from keen_horizon.store.files import FileStore

    with _database() as (settings, url):
        told = back_up(url, FileStore(settings.data, settings.media), options.target, _counted("backing up"))
    print(f"{told.files} files, {told.bytes / 1e9:.2f} GB, and the database are in {options.target}")
    for name in told.missing:
        print(f"keen-horizon: {name} is named by the database, but was not there", file=sys.stderr)


def _restore(options: argparse.Namespace) -> None:
    from keen_horizon.instance import only_instance
    from keen_horizon.operations.backup import restore
    from keen_horizon.store.cluster import ClusterError

    settings = Settings.from_environment()
    try:
        with only_instance(settings.data, "nowhere: a backup is being restored"):
            told = restore(options.source, settings.data, _counted("restoring"))
    except ClusterError as error:
        raise KeenHorizonError(str(error)) from error
    print(f"{told.files} files and the database are in {settings.data}; bin/start runs them")


def _add_person(options: argparse.Namespace) -> None:
    from keen_horizon.operations.persons import add_person

    password = _asked_password(options.name)
    _in_transaction(lambda session: add_person(session, options.name, password))
    print(f"{options.name} can sign in")


def _change_password(options: argparse.Namespace) -> None:
    from keen_horizon.operations.persons import change_password

    password = _asked_password(options.name)
    _in_transaction(lambda session: change_password(session, options.name, password))
    print(f"{options.name} has another password, and signs in anew")


def _remove_person(options: argparse.Namespace) -> None:
    from keen_horizon.operations.persons import remove_person

    _in_transaction(lambda session: remove_person(session, options.name))
    print(f"{options.name} can no longer sign in")


def _list_persons(options: argparse.Namespace) -> None:
    from keen_horizon.operations.persons import persons

    for name in _in_transaction(lambda session: [person.name for person in persons(session)]):
        print(name)


@contextmanager
def _database() -> Iterator[tuple[Settings, str]]:
    """The settings, and the address of the database, started for as long as it is needed. Raises KeenHorizonError."""
    from keen_horizon.store.cluster import ClusterError, running_cluster

    settings = Settings.from_environment()
    if settings.database_url:
        yield settings, settings.database_url
        return
    try:
        with running_cluster(settings.data / "postgres") as cluster:
            yield settings, cluster.url
    except ClusterError as error:
        raise KeenHorizonError(str(error)) from error


def _in_transaction(act: Callable[[Any], Any]) -> Any:
    from keen_horizon.store.database import connect, migrate, transaction

    with _database() as (_, url):
        migrate(url)
        engine = connect(url)
        with transaction(engine) as session:
            found = act(session)
        engine.dispose()
    return found


def _asked_password(name: str) -> str:
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    password = getpass.getpass(f"password for {name}: ")
    if getpass.getpass("the same again: ") != password:
        raise KeenHorizonError("The two passwords are not the same. Nothing was changed.")
    return password


def _counted(title: str) -> Callable[[int, int], None]:
    """Progress on standard error, where that is a terminal."""
    if not sys.stderr.isatty():
        return lambda done, total: None

    def show(done: int, total: int) -> None:
        print(f"\r{title} {done}/{total}", end="\n" if done >= total else "", file=sys.stderr, flush=True)

    return show
