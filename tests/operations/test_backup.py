"""A backup of everything, made while it runs, and restored on a folder of another name."""

from __future__ import annotations

import json
import re
import shutil
import tarfile
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from applications import Browser
from prepared import prepare_once

from keen_horizon.cli import main
from keen_horizon.config import Settings
from keen_horizon.operations.backup import back_up, restore
from keen_horizon.operations.clips import register_clip, used_keys
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.housekeeping import tidy
from keen_horizon.store.cluster import running_cluster
from keen_horizon.store.database import connect, transaction
from keen_horizon.store.files import FileStore, digest_of
from keen_horizon.store.models import Clip, Finding, Render, StoreIdentity, Version
from keen_horizon.web import create_app


@pytest.fixture
def place() -> Iterator[Path]:
    """A folder that PostgreSQL's user may enter."""
    folder = Path(tempfile.mkdtemp(prefix="keen-horizon-restored-", dir="/tmp"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def browser(settings: Settings, monkeypatch: pytest.MonkeyPatch) -> Browser:
    prepare_once(monkeypatch)
    app = create_app(settings)
    return Browser(app.test_client(), app.extensions["keen_horizon"])


@pytest.fixture
def worked_on(browser: Browser, shaky, settings: Settings) -> int:
    """A project with an uploaded clip, measured, a version, a render; and a clip that lies in the data folder."""
    project = browser.ask("POST", "/api/projects", json={"name": "Harbour film"})["id"]
    clip = browser.upload(project, shaky[0])
    (settings.data / "demo").mkdir()
    shutil.copy2(shaky[0], settings.data / "demo" / "quay.mp4")
    with (settings.data / "demo" / "quay.mp4").open("ab") as file:
        file.write(b"\0\0\0\x08free")  # another content: the same twice is no clip
    with browser.services.session() as session:
        register_clip(session, browser.services.files, project, settings.data / "demo" / "quay.mp4")
    browser.work()
    treatment = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    browser.ask("POST", f"/api/clips/{clip}/renders", json=treatment)
    browser.work()
    browser.ask("POST", f"/api/clips/{clip}/versions", json=treatment)
    return clip


def without_token(page: str) -> str:
    return re.sub('csrf-token" content="[^"]+', "", page)


@pytest.mark.parametrize("target", ["harbour.tar", "harbour"])
def test_everything_comes_back_on_another_folder_name(
    browser: Browser, worked_on: int, settings: Settings, place: Path, target: str
) -> None:
    files = browser.services.files
    stray = files.path("ab" + "0" * 62)
    stray.parent.mkdir(exist_ok=True)
    stray.write_bytes(b"no row names this")
    told = back_up(settings.database_url, files, place / target)
    with browser.services.session() as session:
        assert (told.missing, told.files) == ((), len(used_keys(session)) + 1)
    restored = place / "another name"
    assert restore(place / target, restored).files == told.files
    with running_cluster(restored / "postgres") as cluster:
        again = replace(settings, data=restored, database_url=cluster.url)
        app = create_app(again)
        theirs = Browser(app.test_client(), app.extensions["keen_horizon"])
        for address in (f"/api/clips/{worked_on}", f"/clips/{worked_on}/report"):
            assert without_token(theirs.client.get(address).text) == without_token(browser.client.get(address).text)
        treatment = theirs.ask("GET", f"/api/clips/{worked_on}")["draft"]
        assert theirs.ask("POST", f"/api/clips/{worked_on}/solve", json=treatment)["ledger"]["zoom"] > 1
        with theirs.services.session() as session:
            assert [session.query(kind).count() for kind in (Clip, Finding, Version, Render)] == [2, 1, 1, 1]
            for clip in session.query(Clip):
                assert theirs.picture(clip.id, frame=5).shape == (360, 640, 3)
            assert session.query(StoreIdentity).one().identity == FileStore(restored).identity()
        for path in (restored / "files").glob("??/*"):
            assert digest_of(path) == path.stem
        theirs.services.engine.dispose()
    assert not (restored / "files" / "ab" / stray.name).exists()
    assert not list((restored / "work").iterdir())


def test_a_folder_is_brought_up_to_date_and_not_written_over_by_another_store(
    browser: Browser, worked_on: int, settings: Settings, place: Path
) -> None:
    files = browser.services.files
    back_up(settings.database_url, files, place / "b")
    times = {path: path.stat().st_mtime_ns for path in (place / "b" / "files").glob("??/*")}
    browser.ask("POST", "/api/projects", json={"name": "Another film"})
    back_up(settings.database_url, files, place / "b")
    assert {path: path.stat().st_mtime_ns for path in times} == times
    assert not list((place / "b").rglob("*.part"))
    with browser.services.session() as session:
        session.query(StoreIdentity).update({"identity": "1" * 32})
        files.set_identity("1" * 32)
    with pytest.raises(NotPossible, match="another store"):
        back_up(settings.database_url, files, place / "b")


def test_nothing_is_swept_while_a_backup_is_made(
    browser: Browser, worked_on: int, settings: Settings, place: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    files, engine = browser.services.files, connect(settings.database_url)
    swept = []
    add = tarfile.TarFile.add

    def meanwhile(archive: tarfile.TarFile, *arguments: object, **more: object) -> None:
        with transaction(engine) as session:
            swept.append(tidy(session, files))
        add(archive, *arguments, **more)

    monkeypatch.setattr(tarfile.TarFile, "add", meanwhile)
    monkeypatch.setattr(FileStore, "sweep", lambda *_, **__: pytest.fail("swept"))
    back_up(settings.database_url, files, place / "b.tar")
    assert len(swept) > 5
    engine.dispose()


def test_damaged_and_misplaced_backups_are_refused(
    browser: Browser, worked_on: int, settings: Settings, place: Path
) -> None:
    back_up(settings.database_url, browser.services.files, place / "b")
    (place / "full").mkdir()
    (place / "full" / "letter.txt").write_text("mine")
    with pytest.raises(NotPossible, match="not empty"):
        restore(place / "b", place / "full")
    victim = next((place / "b" / "files").glob("??/*.mp4"))
    content = bytearray(victim.read_bytes())
    content[1000] ^= 1
    victim.write_bytes(content)
    with pytest.raises(NotPossible, match="damaged"):
        restore(place / "b", place / "one")
    victim.unlink()
    with pytest.raises(NotPossible, match="missing"):
        restore(place / "b", place / "two")
    manifest = json.loads((place / "b" / "backup.json").read_text())
    manifest["files"]["sources/../../evil.mp4"] = 3
    (place / "b" / "backup.json").write_text(json.dumps(manifest))
    (place / "b" / "sources").mkdir(exist_ok=True)
    (place.parent / "evil.mp4").unlink(missing_ok=True)
    with pytest.raises(NotPossible):
        restore(place / "b", place / "three")
    (place / "half.tar").write_bytes(b"x" * 5000)
    with pytest.raises(NotPossible, match="not a whole backup"):
        restore(place / "half.tar", place / "four")


def test_the_commands(browser: Browser, worked_on: int, settings: Settings, place: Path, monkeypatch, capsys) -> None:
    monkeypatch.setenv("KEEN_HORIZON_DATA", str(settings.data))
    monkeypatch.setenv("KEEN_HORIZON_DATABASE_URL", settings.database_url)
    assert main(["backup", str(place / "nowhere" / "b.tar")]) == 1
    assert main(["backup", str(place / "b.tar")]) == 0
    assert "and the database are in" in capsys.readouterr().out
    monkeypatch.delenv("KEEN_HORIZON_DATABASE_URL")
    monkeypatch.setenv("KEEN_HORIZON_DATA", str(place / "restored"))
    assert main(["backup", str(place / "c.tar")]) == 1  # there is nothing yet
    assert "There is no database" in capsys.readouterr().err
    assert main(["restore", str(place / "b.tar")]) == 0
    assert main(["backup", str(place / "c.tar")]) == 0  # of the cluster that is started for it
