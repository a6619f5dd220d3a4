"""Headless Chromium against the real server, the real worker and real files."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from glass import RULED_LENS, RULED_SIZE, ruled_picture
from playwright.sync_api import Browser, Page, expect, sync_playwright
from services import serving, throw_away_cluster, working

from keen_horizon.config import Settings
from keen_horizon.simulator.film import write_pictures

FLAGS = [
    "--headless", "--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--enable-unsafe-swiftshader",
]  # fmt: skip
VIEWPORT = {"width": 1280, "height": 800}
PATIENCE_MS = 180_000  # a starved machine takes a minute and more for what takes seconds elsewhere
expect.set_options(timeout=PATIENCE_MS)


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        yield browser
        browser.close()


@dataclass(frozen=True)
class Application:
    """Where it answers, and the process that works for it."""

    address: str
    worker: subprocess.Popen[bytes]


@pytest.fixture(scope="session")
def application(media: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Application]:
    """The running application, one for all journeys: each starts a project of its own."""
    with throw_away_cluster() as cluster:
        settings = Settings(tmp_path_factory.mktemp("data"), cluster.url, media)
        with serving(settings) as address, working(settings) as worker:
            yield Application(address, worker)


@pytest.fixture(scope="session")
def address(application: Application) -> str:
    """Where the running application answers."""
    return application.address


@pytest.fixture(scope="session")
def worker(application: Application) -> subprocess.Popen[bytes]:
    """The process that works for the running application."""
    return application.worker


@pytest.fixture(scope="session")
def ruled(media: Path) -> Path:
    """A clip of ruled lines, bent by RULED_LENS."""
    clip = media / "ruled.mp4"
    write_pictures((ruled_picture(RULED_LENS, RULED_SIZE) for _ in range(24)), RULED_SIZE, 24, clip, quality=10)
    return clip


@pytest.fixture(scope="session")
def tab(chromium: Browser, address: str) -> Page:
    """One tab for all journeys: to start one, and to fill its cache, takes longer than many a journey."""
    context = chromium.new_context(viewport=VIEWPORT, base_url=address, accept_downloads=True)
    opened = context.new_page()
    opened.set_default_timeout(PATIENCE_MS)
    return opened


@pytest.fixture
def page(tab: Page, address: str) -> Iterator[Page]:
    """The tab as if it were new; it fails the test when a script fails or something outside is asked for."""
    trouble: list[str] = []
    listening = {
        "pageerror": lambda error: trouble.append(str(error)),
        "request": lambda r: trouble.append(r.url) if not r.url.startswith((address, "data:", "blob:")) else None,
        "console": lambda m: trouble.append(m.text) if "Content Security" in m.text else None,
    }
    for event, listener in listening.items():
        tab.on(event, listener)
    yield tab
    for event, listener in listening.items():
        tab.remove_listener(event, listener)
    _as_new(tab)
    assert trouble == []


def _as_new(tab: Page) -> None:
    """Close what a test opened beside it, and forget what it kept; what it downloaded stays in the cache."""
    for other in tab.context.pages[1:]:
        other.close()
    tab.unroute_all(behavior="wait")
    tab.set_viewport_size(VIEWPORT)
    tab.evaluate("location.origin === 'null' || localStorage.clear()")
    tab.context.clear_cookies()
    tab.goto("about:blank")
