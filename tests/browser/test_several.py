"""Starting points, copies to other clips, several renders, the queue, formats, data and the report."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest
from accessibility import violations
from playwright.sync_api import Page, expect
from services import asleep, wait_for
from steps import bring_in, draft_of, open_bench, press, saved, start_project, to_bench, to_shared_bench

from keen_horizon.core.geometry.similarity import Similarities

pytestmark = pytest.mark.browser


def test_starting_points(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_bench(page, shaky[0])
    page.get_by_text("Starting points", exact=True).click()
    page.get_by_role("button", name="Tripod", exact=True).click()
    expect(page.get_by_role("radio", name=re.compile("Hold"))).to_be_checked()
    wait_for(lambda: draft_of(page)["edges"]["zoom_limit"] == 1.15)
    page.get_by_label("Name for these settings").fill("Our pier")
    page.get_by_role("button", name="Keep").click()
    expect(page.get_by_role("button", name="Our pier", exact=True)).to_be_visible()
    page.get_by_role("button", name="start new clips with Our pier", exact=True).click()
    expect(page.get_by_role("button", name="no longer start new clips with Our pier")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="forget Our pier").click()
    expect(page.get_by_role("button", name="Our pier", exact=True)).to_have_count(0)


def test_settings_go_to_another_clip_and_all_are_rendered(page: Page, worker, shaky, tmp_path: Path) -> None:
    short, other = tmp_path / "short.mp4", tmp_path / "other.mp4"
    subprocess.run(["ffmpeg", "-v", "error", "-i", shaky[0], "-c", "copy", "-frames:v", "60", short], check=True)
    other.write_bytes(short.read_bytes() + b"\0\0\0\x08free")
    start_project(page)
    bring_in(page, short)
    bring_in(page, other)
    shelf = page.url
    names = page.locator(".clip-card h2 a")
    expect(names).to_have_text(["short.mp4", "other.mp4"])
    page.get_by_label("Order of the clips").select_option("by name")
    page.reload()
    expect(page.get_by_label("Order of the clips")).to_have_value("by name")
    expect(names).to_have_text(["other.mp4", "short.mp4"])
    open_bench(page, short.name)
    page.get_by_role("radio", name=re.compile("Hold")).check()
    press(page, "4")
    page.get_by_label("Written as").select_option("prores")
    expect(page.locator("#container")).to_have_value("mov")
    page.locator("#container").select_option("mkv")
    page.get_by_role("button", name="Copy to other clips").click()
    expect(page.get_by_role("checkbox", name=re.compile("other.mp4"))).to_be_checked()
    assert violations(page) == []
    page.locator("dialog[open]").get_by_role("button", name="Copy", exact=True).click()
    expect(page.get_by_text("Copied to 1 clip; 1 job queued.")).to_be_visible()
    page.locator("dialog[open]").get_by_role("button", name="Close").click()
    wait_for(lambda: [draft_of(page)["output"][key] for key in ("codec", "container")] == ["prores", "mkv"])
    page.goto(shelf)
    choices = [page.get_by_role("checkbox", name=f"Choose {name}") for name in ("short.mp4", "other.mp4")]
    for choice in choices:
        choice.check()
    page.get_by_role("button", name="Render them").click()
    at_rest = [choice.bounding_box() for choice in choices]
    with asleep(worker):
        expect(page.locator(".working:visible")).not_to_have_count(0)
        assert [choice.bounding_box() for choice in choices] == at_rest  # nothing moves under a pointer as work begins
        for choice in choices:
            choice.check()
        page.get_by_role("button", name="Render them").click()
        page.goto("/jobs")
        needed = page.get_by_text(re.compile("The renders that wait need about .* are free on the disk"))
        expect(needed).to_be_visible()
        expect(page.locator(".jobs tr").filter(has_text="ProRes, MKV")).to_have_count(4)
        before, last = waiting(page)[-2:]
        page.get_by_role("button", name=re.compile("sooner")).last.click()
        wait_for(lambda: waiting(page).index(last) < waiting(page).index(before))
        assert violations(page) == []
    expect(page.locator(".jobs tr[data-state=done]").filter(has_text="ProRes, MKV")).to_have_count(4, timeout=120_000)
    took = page.locator(".jobs tr[data-state=done]").filter(has_text="ProRes, MKV").locator("td:nth-child(3)")
    expect(took.first).to_have_text(re.compile(r", took \d+ s$"))
    page.goto(shelf)
    expect(page.locator(".clip-card").filter(has_text="2 files")).to_have_count(2)
    open_bench(page, "other.mp4")
    press(page, "4")
    expect(page.get_by_role("link", name=re.compile("Download file"))).to_have_count(2)
    assert draft_of(page)["motion"]["intent"] == "hold"


def waiting(page: Page) -> list[int]:
    """Renders that wait, in the queue's order."""
    works = page.request.get("/api/works").json()["works"]
    return [work["id"] for work in works if work["kind"] == "render" and work["state"] == "waiting"]


def test_own_size_data_and_the_report(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_shared_bench(page, shaky[0])
    press(page, "4")
    page.get_by_role("checkbox", name="own size").check()
    page.get_by_label("Width", exact=True).fill("960")
    page.get_by_label("Width", exact=True).press("Tab")
    wait_for(lambda: draft_of(page)["edges"]["size"] == {"width": 960, "height": 360})
    page.get_by_role("checkbox", name="own size").uncheck()
    page.get_by_text("Data of these settings").click()
    for name, first in (("path CSV", "frame,time,m00"), ("2-D transforms", "frame,time,shift_x_px")):
        assert saved(page, name).read_text().startswith(first)
    page.get_by_role("link", name="report to print").click()
    expect(page.get_by_role("heading", name=shaky[0].name)).to_be_visible()
    expect(page.locator(".report img")).to_have_count(2)
    assert (
        page.evaluate("Promise.all([...document.querySelectorAll('.report img')].map((i) => i.decode())).then(() => 2)")
        == 2
    )
    assert violations(page) == []
