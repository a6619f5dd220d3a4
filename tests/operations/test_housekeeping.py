"""Database and files belong together, or nothing is touched."""

from __future__ import annotations

import os
import time
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy.orm import Session

from keen_horizon.config import Settings
from keen_horizon.launch import own_cluster, prepare
from keen_horizon.operations import clips
from keen_horizon.operations.housekeeping import belong_together, settle_places, tidy
from keen_horizon.store.database import connect, transaction
from keen_horizon.store.files import FileStore, StoreError
from keen_horizon.store.models import Base, Clip, ClipState, Render, StoreIdentity, Upload, Work

LONG_AGO = time.time() - 8 * 86_400


@pytest.fixture
def files(settings: Settings) -> FileStore:
    return FileStore(settings.data, settings.media)


def original(session: Session, files: FileStore, content: bytes = b"an original", name: str = "quay.mp4") -> str:
    """A clip with a stored file, long there."""
    files.work_path("x").write_bytes(content)
    key = files.keep(files.work_path("x"), ".mp4")
    os.utime(files.path(key), (LONG_AGO, LONG_AGO))
    project = clips.new_project(session, "Harbour film")
    session.add(Clip(project_id=project.id, name=name, source_key=key, state=ClipState.READY))
    session.flush()
    return key


def emptied(session: Session) -> None:
    for table in reversed(Base.metadata.sorted_tables):
        session.execute(table.delete())


def test_an_empty_database_leaves_every_original_where_it_is(settings: Settings, files: FileStore) -> None:
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        key = original(session, files)
    prepare(settings)
    assert files.path(key).exists()
    with transaction(engine) as session:
        emptied(session)
    with pytest.raises(StoreError, match=r"the database names none of them.*Nothing was touched"):
        prepare(settings)
    assert files.path(key).read_bytes() == b"an original"
    engine.dispose()


def test_a_database_of_another_folder_is_recognised(settings: Settings, files: FileStore) -> None:
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        key = original(session, files)
        belong_together(session, files)
    with transaction(engine) as session:
        session.query(StoreIdentity).update({"identity": "0" * 32})
    with pytest.raises(StoreError, match="different places"):
        prepare(settings)
    assert files.path(key).exists()
    engine.dispose()


def test_a_database_without_its_files_says_so(settings: Settings, files: FileStore) -> None:
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        key = original(session, files)
    files.path(key).unlink()
    with pytest.raises(StoreError, match="holds none of them"):
        prepare(settings)
    engine.dispose()


def test_no_new_cluster_is_made_for_a_folder_that_has_files(settings: Settings, files: FileStore) -> None:
    files.work_path("x").write_bytes(b"an original")
    files.keep(files.work_path("x"), ".mp4")
    with pytest.raises(StoreError, match="their database is not there"):
        own_cluster(settings.data)
    assert not (settings.data / "postgres").exists()


def test_files_of_the_version_before_are_adopted_once(settings: Settings, files: FileStore) -> None:
    """It had no identity: rows and files that know each other get one."""
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        original(session, files)
    prepare(settings)
    first = files.identity()
    assert first
    prepare(settings)
    assert files.identity() == first
    engine.dispose()


def test_what_nobody_needs_goes_after_a_week(settings: Settings, files: FileStore) -> None:
    engine = connect(settings.database_url)
    old, young = datetime.now(UTC) - timedelta(days=8), datetime.now(UTC) - timedelta(days=6)
    with transaction(engine) as session:
        project = clips.new_project(session, "Harbour film")
        clip = Clip(project_id=project.id, name="quay.mp4")
        session.add(clip)
        session.flush()
        session.add(Work(kind="measure", clip_id=clip.id, first=0, last=9))
        for number, changed in ((1, old), (2, young)):
            session.add(Upload(id=number, project_id=project.id, name="a", size=9, fingerprint="a", changed_at=changed))
        owned = f"measure-{clip.id}-0-9-ab.checkpoint"
    names = ("upload-1.part", "upload-2.part", owned, "measure-999-0-9-ab.checkpoint", "pin-77.npz")
    for name in (*names, "render-5.mp4"):
        files.work_path(name).write_bytes(b"x")
        if name in names:
            os.utime(files.work_path(name), (LONG_AGO, LONG_AGO))
    with transaction(engine) as session:
        tidy(session, files)
        assert [upload.id for upload in session.query(Upload)] == [2]
    assert {path.name for path in files.work_files()} == {"upload-2.part", owned, "render-5.mp4"}
    engine.dispose()


def test_graphics_of_a_render_are_used_files(settings: Settings, files: FileStore) -> None:
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        original(session, files)
        clip = session.query(Clip).one()
        session.add(
            Render(clip_id=clip.id, treatment={}, kind="overlay", graphics={"key": "ab.png", "name": "map.png"})
        )
        session.flush()
        assert "ab.png" in clips.used_keys(session)
    engine.dispose()


def test_absolute_places_of_the_version_before_become_relative(settings: Settings, files: FileStore) -> None:
    engine = connect(settings.database_url)
    inside = settings.media / "settle.mp4"
    inside.write_bytes(b"12345")
    with transaction(engine) as session:
        project = clips.new_project(session, "Harbour film")
        session.add(Clip(project_id=project.id, name="settle.mp4", source_path=str(inside), bytes=5))
        session.flush()
        settle_places(session, files)
        clip = session.query(Clip).one()
        assert (clip.source_root, clip.source_path) == ("media", "settle.mp4")
        assert clip.source_modified == inside.stat().st_mtime_ns
    engine.dispose()
