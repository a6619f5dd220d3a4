"""Stored files: named by what is in them, written beside and moved into place, never changed.

<data>/files/ab/ab12...ef.mp4     stored files, key "ab12...ef.mp4"
<data>/work/                      files on their way: uploads, checkpoints, half-made results
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable, Iterable
from pathlib import Path

CHUNK = 4 << 20


class FileStore:
    """The content-addressed folder under a data folder."""

    def __init__(self, data: Path) -> None:
        self._files = data / "files"
        self._work = data / "work"
        for folder in (self._files, self._work):
            folder.mkdir(parents=True, exist_ok=True)

    def path(self, key: str) -> Path:
        """Where a stored file lies."""
        return self._files / key[:2] / key

    def work_path(self, name: str) -> Path:
        """A place for a file on its way; `name` is made by the application, never by a user."""
        return self._work / name

    def keep(self, path: Path, suffix: str, digest: str | None = None) -> str:
        """Move a finished file from the work folder into the store and return its key."""
        key = (digest or digest_of(path)) + suffix
        target = self.path(key)
        target.parent.mkdir(exist_ok=True)
        if target.exists():
            path.unlink()
        else:
            os.replace(path, target)
        return key

    def sweep(self, used: Iterable[str]) -> int:
        """Delete stored files that no row names; return how many."""
        wanted = set(used)
        removed = 0
        for path in self._files.glob("??/*"):
            if path.name not in wanted:
                path.unlink(missing_ok=True)
                removed += 1
        return removed

    def free_bytes(self) -> int:
        """Space left on the disk."""
        return shutil.disk_usage(self._files).free


def digest_of(path: Path, should_stop: Callable[[], bool] = lambda: False) -> str:
    """SHA-256 of a file's content, read in pieces; empty when stopped."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            if should_stop():
                return ""
            digest.update(chunk)
    return digest.hexdigest()
