"""The application over HTTP: a client, a project, a clip."""

from __future__ import annotations

from pathlib import Path

import pytest
from applications import Browser
from prepared import prepare_once

from keen_horizon.config import Settings
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.web import create_app


@pytest.fixture(autouse=True)
def prepared_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Tests are about what is asked and answered: clips are prepared and measured once for them all."""
    prepare_once(monkeypatch)


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
