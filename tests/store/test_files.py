"""Stored files: named by content, moved whole, swept when nobody needs them."""

from __future__ import annotations

from pathlib import Path

from keen_horizon.config import Settings
from keen_horizon.store.files import FileStore, digest_of


def stored(files: FileStore, name: str, content: bytes) -> str:
    files.work_path(name).write_bytes(content)
    return files.keep(files.work_path(name), ".bin")


def test_same_content_is_one_file(tmp_path: Path) -> None:
    files = FileStore(tmp_path)
    a, b = stored(files, "one", b"hello"), stored(files, "two", b"hello")
    assert a == b == digest_of(files.path(a)) + ".bin"
    assert files.path(a).read_bytes() == b"hello"
    assert list(files.work_path("x").parent.iterdir()) == []


def test_sweep_keeps_what_is_used(tmp_path: Path) -> None:
    files = FileStore(tmp_path)
    kept, lost = stored(files, "one", b"kept"), stored(files, "two", b"lost")
    assert files.sweep([kept]) == 1
    assert files.path(kept).exists()
    assert not files.path(lost).exists()


def test_digest_can_be_stopped(tmp_path: Path) -> None:
    (tmp_path / "f").write_bytes(b"x" * 100)
    assert digest_of(tmp_path / "f", lambda: True) == ""


def test_secret_key_is_made_once_and_private(tmp_path: Path) -> None:
    settings = Settings(tmp_path / "new", "", None)
    assert settings.secret_key() == settings.secret_key()
    assert (tmp_path / "new" / "secret.key").stat().st_mode & 0o77 == 0
