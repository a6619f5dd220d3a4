"""Backing everything up while it runs, and restoring it into an empty place.

A backup is a folder, or a tar file with the same in it:

backup.json                    what is in it: schema, identity, when, and every file with its size
database.dump                  PostgreSQL's own dump (custom format) of one moment
files/ab/ab12...ef.mp4         stored files that rows of that moment name; the name is the content's SHA-256
sources/demo/quay.mp4          clips' own files that lie in the data folder

Stored files never change and none is swept while a backup is made, so they belong to the dump's moment whenever they
are copied. Clips of the media folder stay where they are; the rows know them relative to that folder.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import tarfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import IO, Any, Protocol

from psycopg.conninfo import conninfo_to_dict
from sqlalchemy import Connection, Engine, select, text
from sqlalchemy.orm import Session

from keen_horizon.operations.clips import known_by, used_keys
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.housekeeping import SWEEPING, belong_together
from keen_horizon.operations.material import source_place
from keen_horizon.store.cluster import program, start_cluster
from keen_horizon.store.database import connect, migrate, transaction
from keen_horizon.store.files import FileStore, digest_of, write_whole
from keen_horizon.store.models import Clip

SCHEMA = "keen-horizon/backup/1"
MANIFEST, DUMP, FILES, SOURCES = "backup.json", "database.dump", "files", "sources"

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Told:
    """What a backup or restoring did: how many files, their bytes, and names of those that were missing."""

    files: int
    bytes: int
    missing: tuple[str, ...]


class Target(Protocol):
    """Where a backup is written: a folder or a tar file."""

    def add(self, name: str, source: Path) -> None:
        """Put a file under a name."""

    def finish(self, manifest: str) -> None:
        """Make the backup valid."""


def back_up(url: str, files: FileStore, target: Path, progress: Progress = lambda done, total: None) -> Told:
    """Write a backup of the database at `url` and its files: a tar file where `target` ends so, else a folder.

    A folder that holds an earlier backup of the same store is brought up to date; what it has is not copied again.
    Raises NotPossible, StoreError.
    """
    engine = connect(url)
    with transaction(engine) as session:
        identity = belong_together(session, files)
    with _moment(engine) as connection:
        snapshot = connection.execute(text("SELECT pg_export_snapshot()")).scalar_one()
        with Session(connection) as session:
            wanted = _wanted(session, files)
        there = {name: path for name, path in wanted.items() if path.is_file()}
        missing = tuple(sorted(set(wanted) - set(there)))
        sizes = {name: path.stat().st_size for name, path in there.items()}
        with _target(target, identity) as backup:
            dump = files.work_path(f"backup-{os.getpid()}.dump")
            try:
                _dump(url, snapshot, dump)
                backup.add(DUMP, dump)
            finally:
                dump.unlink(missing_ok=True)
            for done, (name, path) in enumerate(there.items()):
                progress(done, len(there))
                backup.add(name, path)
            progress(len(there), len(there))
            manifest = {
                "schema": SCHEMA,
                "identity": identity,
                "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
                "files": sizes,
                "missing": missing,
            }
            backup.finish(json.dumps(manifest, indent=1))
    return Told(len(there), sum(sizes.values()), missing)


def restore(source: Path, data: Path, progress: Progress = lambda done, total: None) -> Told:
    """Make a data folder of a backup: its files, each compared with its name or size, and a cluster with its rows.

    Raises NotPossible where the folder is not empty, or the backup is damaged.
    """
    if not source.exists():
        raise NotPossible(f"{source.name}: there is no such backup.")
    if data.exists() and any(path.name != "instance.lock" for path in data.iterdir()):
        raise NotPossible(f"{data} is not empty. Restore into an empty folder, and name it in KEEN_HORIZON_DATA.")
    files = FileStore(data)
    manifest = _manifest(source)
    dump = files.work_path(DUMP)
    done, total = 0, len(manifest["files"])
    for name, size, content in _entries(source, manifest):
        target = dump if name == DUMP else _restored_place(data, name)
        target.parent.mkdir(parents=True, exist_ok=True)
        with target.open("wb") as file:
            shutil.copyfileobj(content, file, 4 << 20)
        _check_whole(target, name, size)
        done += name != DUMP
        progress(done, total)
    if done < total or not dump.exists():
        raise NotPossible(f"{source.name}: {total - done} files of this backup are missing. Use another backup.")
    _restore_rows(data, files, dump, manifest["identity"])
    dump.unlink()
    return Told(total, sum(manifest["files"].values()), tuple(manifest["missing"]))


@contextmanager
def _moment(engine: Engine) -> Iterator[Connection]:
    """The only connection of an engine, which sees one moment of the database and keeps sweeps away."""
    try:
        with engine.connect().execution_options(isolation_level="REPEATABLE READ") as connection:
            connection.execute(text("SELECT pg_advisory_xact_lock_shared(:key)"), {"key": SWEEPING})
            yield connection
    finally:
        engine.dispose()


def _wanted(session: Session, files: FileStore) -> dict[str, Path]:
    """Names in the backup, and where each file lies."""
    wanted = {f"{FILES}/{key[:2]}/{key}": files.path(key) for key in sorted(used_keys(session))}
    for clip in session.scalars(select(Clip).where(Clip.source_root == "data").order_by(Clip.id)):
        wanted[f"{SOURCES}/{clip.source_path}"] = source_place(clip, files)
    return wanted


def _dump(url: str, snapshot: str, to: Path) -> None:
    command = [program("pg_dump"), "--format=custom", "--no-owner", f"--snapshot={snapshot}", f"--file={to}"]
    _run_client(command, url, "The database could not be read for the backup")


def _run_client(command: list[str], url: str, failure: str) -> None:
    """Run one of PostgreSQL's programs on a database; the password does not stand in its command line."""
    told = conninfo_to_dict(url)
    names = {"host": "PGHOST", "port": "PGPORT", "user": "PGUSER", "password": "PGPASSWORD", "dbname": "PGDATABASE"}
    environment = os.environ | {names[key]: str(value) for key, value in told.items() if key in names and value}
    ran = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    if ran.returncode != 0:
        raise NotPossible(f"{failure}: {ran.stderr.strip()[-600:]}")


class _Folder:
    """A backup as a folder; files that are there already, of the same size, stay."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def add(self, name: str, source: Path) -> None:
        target = self._folder / name
        same = target.exists() and target.stat().st_size == source.stat().st_size
        if same and name.startswith(f"{FILES}/"):
            return
        target.parent.mkdir(parents=True, exist_ok=True)
        beside = target.with_name(target.name + ".part")
        shutil.copy2(source, beside)
        os.replace(beside, target)

    def finish(self, manifest: str) -> None:
        write_whole(self._folder / MANIFEST, manifest)


class _Archive:
    """A backup as a tar file."""

    def __init__(self, archive: tarfile.TarFile, manifest: Path) -> None:
        self._archive, self._manifest = archive, manifest

    def add(self, name: str, source: Path) -> None:
        self._archive.add(source, name, recursive=False)

    def finish(self, manifest: str) -> None:
        self._manifest.write_text(manifest)
        self._archive.add(self._manifest, MANIFEST)


@contextmanager
def _target(path: Path, identity: str) -> Iterator[Target]:
    if not path.resolve().parent.is_dir():
        raise NotPossible(f"{path.name}: there is no folder {path.resolve().parent}. Make it first.")
    if path.suffix != ".tar":
        if path.is_file():
            raise NotPossible(f"{path.name} is a file. Name a folder, or a file that ends in .tar.")
        _check_same_store(path, identity)
        path.mkdir(exist_ok=True)
        yield _Folder(path)
        return
    partial, manifest = path.with_name(path.name + ".part"), path.with_name(path.name + ".json.part")
    try:
        with tarfile.open(partial, "w", format=tarfile.PAX_FORMAT) as archive:
            yield _Archive(archive, manifest)
        with partial.open("rb") as file:
            os.fsync(file.fileno())
        os.replace(partial, path)
    finally:
        partial.unlink(missing_ok=True)
        manifest.unlink(missing_ok=True)


def _check_same_store(folder: Path, identity: str) -> None:
    """Nothing of another store is written over."""
    if not folder.exists() or not any(folder.iterdir()):
        return
    if not (folder / MANIFEST).exists() and not (folder / FILES).exists():
        raise NotPossible(f"{folder} holds other things. Name a new folder, or that of an earlier backup.")
    if (folder / MANIFEST).exists() and _manifest(folder)["identity"] != identity:
        raise NotPossible(f"{folder} is a backup of another store. Name a new folder.")


def _manifest(source: Path) -> dict[str, Any]:
    try:
        if source.is_dir():
            content = (source / MANIFEST).read_text()
        else:
            with tarfile.open(source) as archive:
                found = archive.extractfile(MANIFEST)
                content = found.read().decode() if found else ""
        manifest: dict[str, Any] = json.loads(content)
    except (OSError, KeyError, ValueError, tarfile.TarError) as error:
        raise NotPossible(f"{source.name}: this is not a whole backup ({error}).") from error
    if manifest.get("schema") != SCHEMA:
        raise NotPossible(f"{source.name}: this is not a backup that this version can read.")
    return manifest


def _entries(source: Path, manifest: dict[str, Any]) -> Iterator[tuple[str, int | None, IO[bytes]]]:
    """Names, sizes and contents of what the manifest lists, and the dump's."""
    sizes: dict[str, int | None] = {DUMP: None, **manifest["files"]}
    if source.is_dir():
        for name, size in sizes.items():
            if (source / name).is_file():
                with (source / name).open("rb") as file:
                    yield name, size, file
        return
    try:
        with tarfile.open(source) as archive:
            for member in archive:
                content = archive.extractfile(member) if member.isfile() and member.name in sizes else None
                if content is not None:
                    yield member.name, sizes[member.name], content
    except tarfile.TarError as error:
        raise NotPossible(f"{source.name}: the backup breaks off ({error}). Use another one.") from error


def _restored_place(data: Path, name: str) -> Path:
    """Where a file of a backup goes. Raises NotPossible for names that lead elsewhere."""
    kind, *rest = PurePosixPath(name).parts
    if kind not in (FILES, SOURCES) or not rest or ".." in rest or name.startswith("/"):
        raise NotPossible(f"{name}: this is not a name that a backup has.")
    return data.joinpath(FILES, *rest) if kind == FILES else data.joinpath(*rest)


def _check_whole(path: Path, name: str, size: int | None) -> None:
    wrong_size = size is not None and path.stat().st_size != size
    wrong_content = name.startswith(f"{FILES}/") and digest_of(path) != path.name.partition(".")[0]
    if wrong_size or wrong_content:
        raise NotPossible(f"{name}: this file of the backup is damaged. Use another backup.")


def _restore_rows(data: Path, files: FileStore, dump: Path, identity: str) -> None:
    cluster = start_cluster(data / "postgres")
    try:
        command = [program("pg_restore"), "--no-owner", "--exit-on-error", "--single-transaction", str(dump)]
        told = conninfo_to_dict(cluster.url)
        _run_client([*command, f"--dbname={told['dbname']}"], cluster.url, "The rows could not be restored")
        migrate(cluster.url)
        files.set_identity(identity)
        engine = connect(cluster.url)
        with transaction(engine) as session:
            belong_together(session, files)
            for clip in session.scalars(select(Clip).where(Clip.source_root == "data")):
                clip.bytes, clip.source_modified = known_by(source_place(clip, files))
        engine.dispose()
    finally:
        cluster.stop()
