"""Pictures that were made once and may be asked for again: small files, the ones used longest ago go first."""

from __future__ import annotations

import hashlib
import json
import os
from pathlib import Path
from typing import Any

from keen_horizon.store.files import write_whole

MOST_BYTES = 256 << 20


class Cache:
    """Files named by what they are of, within `most` bytes."""

    def __init__(self, folder: Path, most: int = MOST_BYTES) -> None:
        self._folder, self._most = folder, most
        self._since_tidy = 0

    def name(self, *about: Any) -> str:
        """What a picture of `about`, plain values for JSON, is called."""
        return hashlib.sha256(json.dumps(about, sort_keys=True).encode()).hexdigest()

    def get(self, name: str) -> bytes | None:
        """What was put under a name, if it is still there."""
        path = self._folder / name
        try:
            found = path.read_bytes()
            os.utime(path)
        except OSError:
            return None
        return found

    def put(self, name: str, content: bytes) -> None:
        """Keep something; a disk that is full keeps nothing, and nobody misses it."""
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
            write_whole(self._folder / name, content)
        except OSError:
            return
        self._since_tidy += len(content)
        if self._since_tidy > self._most // 8:
            self._since_tidy = 0
            self._tidy()

    def _tidy(self) -> None:
        found = sorted(((path.stat().st_mtime, path) for path in self._folder.iterdir()), reverse=True)
        total = 0
        for _, path in found:
            total += path.stat().st_size
            if total > self._most:
                path.unlink(missing_ok=True)
