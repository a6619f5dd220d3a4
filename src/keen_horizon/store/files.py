"""Stored files: named by what is in them, written beside and moved into place, never changed.

<data>/identity                   says which database these files belong to (see operations.housekeeping)
<data>/files/ab/ab12...ef.mp4     stored files, key "ab12...ef.mp4"
<data>/work/                      files on their way: uploads, checkpoints, half-made results
<data>/cache/                     what can be made again at any time
<data>/quarantine/2026-11-27/     files that no row named on that day, removed a week later

A clip's own file may also lie in the media folder, or elsewhere, and is then only ever read. Its place is kept
relative to the folder it lies in, so that either folder can be moved.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from keen_horizon.core.errors import KeenHorizonError

CHUNK = 4 << 20
DAY_S = 86_400.0
QUARANTINE_DAYS = 7


class StoreError(KeenHorizonError):
    """The files and the database do not belong together; nothing was changed."""


@dataclass(frozen=True)
class Swept:
    """What a sweep did, in numbers of files."""

    quarantined: int
    removed: int
    brought_back: int


@dataclass(frozen=True)
class Place:
    """Where a clip's own file lies: `path` below the `root` "media" or "data", or as it stands where that is None."""

    root: str | None
    path: str


class FileStore:
    """The content-addressed folder under a data folder, and the folders that clips' own files lie in."""

    def __init__(self, data: Path, media: Path | None = None) -> None:
        self.data = data
        self._roots = {"data": data, "media": media}
        self._files = data / "files"
        self._work = data / "work"
        self._quarantine = data / "quarantine"
        self.cache = data / "cache"
        for folder in (self._files, self._work, self.cache):
            folder.mkdir(parents=True, exist_ok=True)

    def path(self, key: str) -> Path:
        """Where a stored file lies."""
        return self._files / key[:2] / key

    def work_path(self, name: str) -> Path:
        """A place for a file on its way; `name` is made by the application, never by a user."""
        return self._work / name

    def work_files(self) -> list[Path]:
        """All files on their way."""
        return [path for path in self._work.iterdir() if path.is_file()]

    def place(self, path: Path) -> Place:
        """How a file that is used where it lies is kept."""
        for root, folder in (("media", self._roots["media"]), ("data", self._roots["data"])):
            if folder is not None and path.is_relative_to(folder):
                return Place(root, str(path.relative_to(folder)))
        return Place(None, str(path))

    def placed(self, place: Place) -> Path:
        """The reverse of `place`. Raises StoreError where the media folder is not set."""
        if place.root is None:
            return Path(place.path)
        folder = self._roots.get(place.root)
        if folder is None:
            raise StoreError(
                f"{Path(place.path).name} lies in the media folder, but none is set. Start with KEEN_HORIZON_MEDIA."
            )
        return folder / place.path

    def keep(self, path: Path, suffix: str, digest: str | None = None) -> str:
        """Move a finished file from the work folder into the store and return its key."""
        key = (digest or digest_of(path)) + suffix
        target = self.path(key)
        target.parent.mkdir(exist_ok=True)
        if target.exists():
            os.utime(target)  # a sweep spares what was kept lately
            path.unlink()
        else:
            os.utime(path)
            os.replace(path, target)
        return key

    def stored_keys(self) -> set[str]:
        """Keys of all stored files."""
        return {path.name for path in self._files.glob("??/*")}

    def identity(self) -> str | None:
        """Which database the files belong to; None where that was never said."""
        path = self.data / "identity"
        return path.read_text().strip() or None if path.exists() else None

    def set_identity(self, identity: str) -> None:
        """Say which database the files belong to."""
        write_whole(self.data / "identity", identity + "\n")

    def sweep(self, used: Iterable[str], identity: str, *, spare_s: float = DAY_S) -> Swept:
        """Put files that no row names into quarantine, and remove those that have been there for a week.

        Files younger than `spare_s` stay: their row may not be written yet. What is in quarantine and named again
        comes back. `identity` is that of the database that `used` was read from. Raises StoreError where it is not
        this folder's.
        """
        if self.identity() != identity:
            raise StoreError(f"The files in {self.data} belong to another database. None was touched.")
        wanted = set(used)
        brought_back = self._bring_back(wanted)
        removed = self._remove_old()
        today = self._quarantine / datetime.now(UTC).date().isoformat()
        young = time.time() - spare_s
        quarantined = 0
        for path in self._files.glob("??/*"):
            if path.name not in wanted and path.stat().st_mtime <= young:
                today.mkdir(parents=True, exist_ok=True)
                os.replace(path, today / path.name)
                quarantined += 1
        return Swept(quarantined, removed, brought_back)

    def _bring_back(self, wanted: set[str]) -> int:
        found = [path for path in self._quarantine.glob("*/*") if path.name in wanted]
        missing = [path for path in found if not self.path(path.name).exists()]
        for path in missing:
            self.path(path.name).parent.mkdir(exist_ok=True)
            os.replace(path, self.path(path.name))
        return len(missing)

    def _remove_old(self) -> int:
        last_kept = (datetime.now(UTC) - timedelta(days=QUARANTINE_DAYS)).date().isoformat()
        removed = 0
        for folder in self._quarantine.glob("????-??-??"):
            if folder.name <= last_kept:
                removed += sum(1 for _ in folder.iterdir())
                shutil.rmtree(folder)
        return removed

    def forget_cache(self) -> None:
        """Remove what can be made again."""
        for path in self.cache.iterdir():
            shutil.rmtree(path, ignore_errors=True)

    def free_bytes(self) -> int:
        """Space left on the disk."""
        return shutil.disk_usage(self._files).free


def digest_of(path: Path, should_stop: Callable[[], bool] = lambda: False) -> str:
    """SHA-256 of a file's content, or of the names and contents of a folder's; read in pieces, empty when stopped."""
    digest = hashlib.sha256()
    for part in files_of(path) if path.is_dir() else [path]:
        if part is not path:
            digest.update(f"{part.name} {part.stat().st_size}\n".encode(errors="surrogateescape"))
        with part.open("rb") as file:
            while chunk := file.read(CHUNK):
                if should_stop():
                    return ""
                digest.update(chunk)
    return digest.hexdigest()


def files_of(folder: Path) -> list[Path]:
    """The files that lie in a folder itself, by name."""
    return sorted(path for path in folder.iterdir() if path.is_file())


def write_whole(path: Path, content: str | bytes) -> None:
    """Write a file so that it is there as a whole or not at all."""
    beside = path.with_name(path.name + ".part")
    data = content.encode() if isinstance(content, str) else content
    with beside.open("wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    os.replace(beside, path)
