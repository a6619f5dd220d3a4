"""What the pages say when something is away, replaced, or asks who somebody is."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from accessibility import violations
from chaos import running
from playwright.sync_api import Browser, Page, expect
from services import serving, throw_away_cluster, wait_for
from steps import bring_in, press, settled, start_project, to_bench, to_shared_bench, zoom_of
from truth import padding

from keen_horizon.config import Settings
from keen_horizon.operations.persons import add_person
from keen_horizon.store.database import connect, transaction

pytestmark = pytest.mark.browser


@pytest.fixture
def place() -> Iterator[Path]:
    """A folder that PostgreSQL's user may enter."""
    with tempfile.TemporaryDirectory(prefix="keen-horizon-trouble-", dir="/tmp") as made:
        Path(made).chmod(0o755)
        yield Path(made)


def test_a_page_says_what_is_away_and_goes_on_by_itself(chromium: Browser, place: Path, shaky) -> None:
    """PostgreSQL, then the web process are killed under an open bench; nothing is loaded anew."""
    with running(place) as application:
        context = chromium.new_context(viewport={"width": 1280, "height": 800}, base_url=application.address)
        page = context.new_page()
        page.set_default_timeout(60_000)
        to_bench(page, shaky[0])
        page.evaluate("window.same = true")
        before = zoom_of(page)
        away = page.locator(".away")
        for target in ("postgres", "serve"):
            application.kill(target)
            expect(away).to_be_visible()
            expect(away).to_contain_text("does not answer. Nothing was lost")
            expect(away).to_be_hidden()
        press(page, "3")
        page.locator("#zoom-limit").fill("1.02")
        page.locator("#zoom-limit").press("Enter")
        wait_for(lambda: zoom_of(page) < before)
        assert page.evaluate("window.same")
        context.close()


def test_signing_in(chromium: Browser, tmp_path: Path) -> None:
    with throw_away_cluster() as cluster:
        settings = Settings(tmp_path / "data", cluster.url, None, host="0.0.0.0")
        engine = connect(cluster.url)
        with serving(settings) as address:
            context = chromium.new_context(viewport={"width": 1280, "height": 800}, base_url=address)
            page = context.new_page()
            page.goto("/jobs")
            expect(page.get_by_text("Nobody can sign in yet")).to_be_visible()
            assert violations(page) == []
            with transaction(engine) as session:
                add_person(session, "Ada Quay", "tide tables 1926")
            page.reload()
            assert violations(page) == []
            page.get_by_label("Name").fill("Ada Quay")
            page.get_by_label("Password").fill("not the one")
            page.get_by_role("button", name="Sign in").click()
            expect(page.get_by_role("alert")).to_contain_text("do not belong together")
            assert violations(page) == []
            page.get_by_label("Password").fill("tide tables 1926")
            page.get_by_role("button", name="Sign in").click()
            expect(page.get_by_role("heading", name="Jobs")).to_be_visible()
            assert violations(page) == []
            page.get_by_role("button", name="Ada Quay: sign out").click()
            expect(page.get_by_role("button", name="Sign in")).to_be_visible()
            context.close()
        engine.dispose()


def test_a_replaced_file_is_offered_to_be_prepared_anew(page: Page, media: Path, shaky, ruled: Path) -> None:
    start_project(page)
    used = media / "replaced_02.mp4"
    shutil.copy2(shaky[0], used)
    page.reload()
    page.get_by_role("button", name="From the media folder").click()
    page.get_by_role("button", name=used.name, exact=True).click()
    card = page.locator(".clip-card")
    expect(card.get_by_role("link", name=used.name, exact=True)).to_be_visible()
    shutil.copy2(ruled, used)
    page.reload()
    replaced = card.get_by_text("was replaced or changed")
    expect(replaced).to_be_visible()
    assert violations(page) == []
    card.get_by_role("button", name="Prepare anew").click()
    expect(replaced).to_be_hidden()
    expect(card).to_contain_text("0:01 ·")
    used.unlink()


def test_the_page_says_when_it_listens(page: Page, shaky) -> None:
    to_shared_bench(page, shaky[0])
    page.reload(wait_until="commit")
    press(page, "1")
    expect(page.locator('.ledger-row[data-stage="optics"]')).to_have_attribute("aria-current", "true")
    assert page.locator("body").get_attribute("aria-busy") is None


def test_two_windows_send_one_file(page: Page, tmp_path: Path, shaky) -> None:
    """Both send the same pieces; one clip comes of it, as it was."""
    start_project(page)
    clip = tmp_path / "both.mp4"
    clip.write_bytes(shaky[0].read_bytes() + padding(20 << 20))
    other = page.context.new_page()
    other.goto(page.url)
    settled(other)
    for window in (page, other):
        window.set_input_files("input[type=file]", clip)
    expect(page.get_by_role("link", name=clip.name, exact=True)).to_be_visible()
    bring_in(page, shaky[0])
    cards = page.request.get(page.url.replace("/projects/", "/api/projects/") + "/clips").json()
    assert [card["name"] for card in cards if card["state"] == "ready"] == [clip.name, shaky[0].name]
