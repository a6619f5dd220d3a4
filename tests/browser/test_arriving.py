"""The first minute: clips are measured as they arrive, unless the project says no."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect
from steps import bring_in, open_bench, settled, start_project


def test_a_clip_is_measured_as_it_arrives_unless_its_project_says_no(page: Page, shaky: tuple) -> None:
    clip: Path = shaky[0]
    start_project(page, measures=True)
    switch = page.get_by_role("checkbox", name="measure on arrival")
    expect(switch).to_be_checked()
    bring_in(page, clip)
    expect(page.locator(".clip-card .shake")).to_contain_text("of the width")
    open_bench(page, clip.name)
    expect(page.get_by_role("button", name="Measure motion")).to_be_hidden()
    expect(page.locator(".outcome").first.locator("tbody tr")).to_have_count(5)

    start_project(page, measures=False)
    page.reload()
    expect(switch).not_to_be_checked()
    bring_in(page, clip)
    settled(page)
    expect(page.get_by_role("button", name="Measure", exact=True)).to_be_visible()
