"""A file of the media folder that is replaced by another one is not steadied with the old one's motion."""

from __future__ import annotations

import os
import shutil
from importlib import import_module
from pathlib import Path

import pytest
from applications import Browser
from truth import SMALL

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.operations.material import source_file
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Finding, Work, WorkState


@pytest.fixture
def other(media: Path) -> Path:
    """Another, shorter film."""
    path = media / "other.mp4"
    if not path.exists():
        write_pictures(shaken_pictures(jitter(40, SMALL, 3.0, seed=77), SMALL, noise=1.0), SMALL, 30, path, quality=16)
    return path


@pytest.fixture
def registered(browser: Browser, project: int, media: Path, shaky: tuple[Path, Similarities]) -> tuple[int, Path]:
    """A measured clip of the media folder, with a saved version, and its file."""
    path = media / "used" / f"dinghy_{project}.mp4"
    path.parent.mkdir(exist_ok=True)
    shutil.copy2(shaky[0], path)
    name = str(path.relative_to(media))
    number = browser.ask("POST", f"/api/projects/{project}/media", json={"path": name})["id"]
    browser.work()
    treatment = browser.ask("GET", f"/api/clips/{number}")["draft"] | {"range": {"in": 0, "out": 80}}
    browser.ask("PUT", f"/api/clips/{number}/draft", json=treatment)
    browser.ask("POST", f"/api/clips/{number}/measure", json=treatment)
    browser.work()
    browser.ask("POST", f"/api/clips/{number}/versions", json=treatment)
    return number, path


def test_a_replaced_file_is_said_and_prepared_anew(browser: Browser, project: int, registered, other: Path) -> None:
    number, path = registered
    before = shutil.copy2(path, path.with_suffix(".before"))
    treatment = browser.ask("GET", f"/api/clips/{number}")["draft"]
    shutil.copy2(other, path)
    (card,) = browser.ask("GET", f"/api/projects/{project}/clips")
    assert card["changed"]
    assert "replaced or changed" in browser.ask("GET", f"/api/clips/{number}")["info"]["notice"]
    assert "replaced" in browser.save(f"/api/clips/{number}/stills", {"frame": 3}, 409).json["error"]
    browser.ask("POST", f"/api/clips/{number}/renders", json=treatment)
    browser.work()
    with browser.services.session() as session:
        rendering = session.query(Work).filter_by(kind="render").one()
        assert rendering.state is WorkState.FAILED
        assert "dinghy" in rendering.error
        assert "replaced or changed" in rendering.error

    browser.ask("POST", f"/api/clips/{number}/retry")
    browser.work()
    detail = browser.ask("GET", f"/api/clips/{number}")
    assert (detail["info"]["frames"], detail["measured"]) == (40, [])
    assert detail["draft"]["range"] is None  # the old one does not fit
    assert [version["letter"] for version in detail["versions"]] == ["A"]
    assert "not been measured" in browser.ask("POST", f"/api/clips/{number}/solve", 400, json=detail["draft"])["error"]
    with browser.services.session() as session:
        assert session.query(Finding).count() == 1  # kept

    shutil.copy2(before, path)  # the earlier file comes back, and what was found in it with it
    browser.ask("POST", f"/api/clips/{number}/retry")
    browser.work()
    assert browser.ask("GET", f"/api/clips/{number}")["measured"] == [[0, 80]]
    assert browser.ask("POST", f"/api/clips/{number}/solve", json=treatment)["ledger"]["zoom"] > 1


def test_a_file_with_another_time_only_goes_on(browser: Browser, project: int, registered) -> None:
    number, path = registered
    os.utime(path, (1_700_000_000, 1_700_000_000))
    assert browser.ask("GET", f"/api/projects/{project}/clips")[0]["changed"]
    with browser.services.session() as session:
        proxy = session.get_one(Clip, number).proxy_key
    browser.ask("POST", f"/api/clips/{number}/renders", json=browser.ask("GET", f"/api/clips/{number}")["draft"])
    browser.work()
    assert browser.ask("GET", f"/api/clips/{number}")["renders"][0]["report"]["gap_pixels"] == 0
    (card,) = browser.ask("GET", f"/api/projects/{project}/clips")
    assert not card["changed"]
    with browser.services.session() as session:
        assert session.get_one(Clip, number).proxy_key == proxy


def test_a_file_replaced_while_it_is_measured_leaves_no_finding(
    browser: Browser, registered, other: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    kind = import_module("keen_horizon.jobs.kinds.finding")
    number, path = registered
    measure_clip = kind.measure_clip

    def meanwhile(*arguments: object) -> object:
        found = measure_clip(*arguments)
        shutil.copy2(other, path)
        return found

    monkeypatch.setattr(kind, "measure_clip", meanwhile)
    browser.ask("POST", f"/api/clips/{number}/measure", json={})
    browser.work()
    with browser.services.session() as session:
        assert [(m.first, m.last) for m in session.query(Finding)] == [(0, 80)]
        assert session.query(Work).order_by(Work.id.desc()).first().state is WorkState.FAILED


def test_registered_media_follow_their_folder(browser: Browser, registered, media: Path, tmp_path: Path) -> None:
    number, path = registered
    moved = tmp_path / "card two"
    shutil.copytree(path.parent, moved / "used")
    with browser.services.session() as session:
        clip = session.get_one(Clip, number)
        found = source_file(clip, FileStore(browser.services.settings.data, moved))
    assert found == moved / "used" / path.name
