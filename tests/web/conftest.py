"""The application over HTTP: a client, a project, a clip."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path

import pytest
from applications import Browser

from keen_horizon.config import Settings
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.footage import Reading
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.proxy import ProxyFacts, make_proxy
from keen_horizon.store.files import digest_of
from keen_horizon.web import create_app

COPIES: dict[tuple[str, Reading, str], tuple[ProxyFacts, bytes, bytes]] = {}


@pytest.fixture(autouse=True)
def copied_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every test begins with empty tables and folders: what is made of a clip's pictures is made once for them all."""

    def copied(source: Path, info: ClipInfo, times: object, proxy: Path, thumbnails: Path, *told: object) -> ProxyFacts:
        key = digest_of(source), info.reading, info.camera
        if key not in COPIES:
            facts = make_proxy(source, info, times, proxy, thumbnails, *told)
            COPIES[key] = facts, proxy.read_bytes(), thumbnails.read_bytes()
        facts, pictures, strip = COPIES[key]
        proxy.write_bytes(pictures)
        thumbnails.write_bytes(strip)
        return facts

    monkeypatch.setattr(import_module("keen_horizon.jobs.kinds.ingest"), "make_proxy", copied)


@pytest.fixture
def browser(settings: Settings) -> Browser:
    app = create_app(settings)
    return Browser(app.test_client(), app.extensions["keen_horizon"])


@pytest.fixture
def project(browser: Browser) -> int:
    return browser.ask("POST", "/api/projects", json={"name": "Harbour film"})["id"]


@pytest.fixture
def clip(browser: Browser, project: int, shaky: tuple[Path, Similarities]) -> int:
    number = browser.upload(project, shaky[0])
    browser.work()
    return number
