"""Stored files: named by content, moved whole, swept when nobody needs them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from keen_horizon.config import Settings
from keen_horizon.store.files import QUARANTINE_DAYS, FileStore, StoreError, Swept, digest_of


def stored(files: FileStore, name: str, content: bytes) -> str:
    files.work_path(name).write_bytes(content)
    return files.keep(files.work_path(name), ".bin")


def test_same_content_is_one_file(tmp_path: Path) -> None:
    files = FileStore(tmp_path)
    a, b = stored(files, "one", b"hello"), stored(files, "two", b"hello")
    assert a == b == digest_of(files.path(a)) + ".bin"
    assert files.path(a).read_bytes() == b"hello"
    assert list(files.work_path("x").parent.iterdir()) == []


def test_swept_files_wait_in_quarantine_and_come_back_when_they_are_named_again(tmp_path: Path) -> None:
    files = FileStore(tmp_path)
    files.set_identity("ours")
    kept, lost = stored(files, "one", b"kept"), stored(files, "two", b"lost")
    assert files.sweep([kept], "ours") == Swept(0, 0, 0)  # both are young: their rows may be on their way
    assert files.sweep([kept], "ours", spare_s=-1) == Swept(1, 0, 0)
    assert files.path(kept).exists()
    assert not files.path(lost).exists()
    assert [path.name for path in (tmp_path / "quarantine").glob("*/*")] == [lost]
    assert files.sweep([kept, lost], "ours", spare_s=-1) == Swept(0, 0, 1)
    assert files.path(lost).read_bytes() == b"lost"


def test_only_a_later_sweep_removes_what_is_in_quarantine(tmp_path: Path) -> None:
    files = FileStore(tmp_path)
    files.set_identity("ours")
    lost = stored(files, "two", b"lost")
    files.sweep([], "ours", spare_s=-1)
    assert files.sweep([], "ours", spare_s=-1).removed == 0
    (today,) = (tmp_path / "quarantine").iterdir()
    for days, removed in ((QUARANTINE_DAYS - 1, 0), (QUARANTINE_DAYS, 1)):
        (tmp_path / "quarantine").joinpath(today.name).rename(
            tmp_path / "quarantine" / (datetime.now(UTC).date() - timedelta(days=days)).isoformat()
        )
        assert files.sweep([], "ours").removed == removed
        today = next((tmp_path / "quarantine").iterdir(), today)
    assert not list((tmp_path / "quarantine").glob(f"*/{lost}"))


def test_nothing_is_swept_for_another_database(tmp_path: Path) -> None:
    files = FileStore(tmp_path)
    key = stored(files, "one", b"an original")
    for identity in (None, "theirs"):
        if identity:
            files.set_identity(identity)
        with pytest.raises(StoreError, match="None was touched"):
            files.sweep([], "ours", spare_s=-1)
    assert files.path(key).exists()


def test_places_are_kept_relative_to_folders_that_may_move(tmp_path: Path) -> None:
    files = FileStore(tmp_path / "data", tmp_path / "media")
    inside, own, elsewhere = tmp_path / "media/a/b.mp4", tmp_path / "data/demo/c.mp4", Path("/mnt/card/d.mp4")
    moved = FileStore(tmp_path / "data2", tmp_path / "media2")
    assert moved.placed(files.place(inside)) == tmp_path / "media2/a/b.mp4"
    assert moved.placed(files.place(own)) == tmp_path / "data2/demo/c.mp4"
    assert moved.placed(files.place(elsewhere)) == elsewhere
    with pytest.raises(StoreError, match="KEEN_HORIZON_MEDIA"):
        FileStore(tmp_path / "data").placed(files.place(inside))


def test_digest_can_be_stopped(tmp_path: Path) -> None:
    (tmp_path / "f").write_bytes(b"x" * 100)
    assert digest_of(tmp_path / "f", lambda: True) == ""


def test_secret_key_is_made_once_and_private(tmp_path: Path) -> None:
    settings = Settings(tmp_path / "new", "", None)
    assert settings.secret_key() == settings.secret_key()
    assert (tmp_path / "new" / "secret.key").stat().st_mode & 0o77 == 0
