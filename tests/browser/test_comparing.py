"""Before and after in every way, versions against each other, close looks, and comparisons as files."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from accessibility import violations
from playwright.sync_api import Page, expect
from services import wait_for
from steps import canvas_of, draft_of, drag, go, press, settled, to_bench, to_shared_bench

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.probe import probe

pytestmark = pytest.mark.browser


def test_difference_first_and_last_and_a_turned_wipe(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_shared_bench(page, shaky[0])
    page.get_by_role("radio", name=re.compile("Hold")).check()
    go(page, 30)
    after = canvas_of(page).astype(int)
    page.get_by_role("button", name="before", exact=True).click()
    before = canvas_of(page).astype(int)
    page.get_by_role("button", name="difference").click()
    apart = canvas_of(page).astype(int)
    assert np.abs(apart - np.minimum(255, 3 * np.abs(after - before))).mean() < 3
    page.get_by_role("button", name="first + last").click()
    expect(page.locator(".viewer-label")).to_have_text("first and last frame")
    expect(page.get_by_label("Time and frame")).to_contain_text("frame 30")
    onion = canvas_of(page).astype(int)
    assert np.abs(onion - after)[20:-20, 20:-20].mean() < 0.5 * np.abs(before - after)[20:-20, 20:-20].mean()
    page.get_by_role("button", name="wipe", exact=True).click()
    slider = page.get_by_role("slider", name="Wipe line")
    drag(page, ".wipe", (0.5, 0.95), (-4.0, 0.95))
    assert "rotate(0." in slider.get_attribute("style")
    turned = canvas_of(page).astype(int)
    rows, columns = turned.shape[:2]
    assert np.array_equal(turned[2, columns // 2 + 15], before[2, columns // 2 + 15])
    assert np.array_equal(turned[-3, columns // 2 - 15], after[-3, columns // 2 - 15])
    slider.focus()
    press(page, "ArrowLeft")
    assert slider.get_attribute("aria-valuenow") == "48"
    assert rows < columns
    assert violations(page) == []


def test_magnifier_and_full_size(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_shared_bench(page, shaky[0])
    plain = canvas_of(page).astype(int)
    press(page, "m")
    box = page.locator(".viewer canvas").bounding_box()
    page.mouse.move(box["x"] + 0.5 * box["width"], box["y"] + 0.5 * box["height"])
    magnified = canvas_of(page).astype(int)
    rows, columns = magnified.shape[:2]
    middle = (slice(rows // 2 - 30, rows // 2 + 30), slice(columns // 2 - 30, columns // 2 + 30))
    assert np.abs(magnified - plain)[middle].mean() > 5
    assert np.array_equal(magnified[:20], plain[:20])
    press(page, "m")
    press(page, "z")
    exact = page.locator("img.exact")
    expect(exact).to_be_visible()
    natural, shown = exact.evaluate("image => image.decode().then(() => image.naturalWidth)"), exact.bounding_box()
    assert natural == pytest.approx(shown["width"], abs=1)  # one pixel of the picture for one of the screen
    press(page, "3")
    page.get_by_text("Sharpen", exact=True).click()
    page.get_by_role("button", name="which fits this zoom").click()
    amount = float(page.locator("#sharpen").input_value())
    assert amount > 0
    wait_for(lambda: draft_of(page)["edges"]["sharpen"] == amount)
    page.locator(".viewer canvas").click()
    press(page, "z")
    expect(exact).to_be_hidden()


def test_two_versions_compare_with_their_figures(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_bench(page, shaky[0])
    page.get_by_role("button", name="save new").click()
    glide = canvas_of(page)
    page.get_by_role("radio", name=re.compile("Hold")).check()
    settled(page)
    page.get_by_label("What before is").select_option("A")
    table = page.locator(".outcome").filter(has_text="Version A and now")
    expect(table.locator("tbody tr")).to_have_count(6)
    then, now = (float(cell.rstrip("×")) for cell in table.locator("tbody tr").first.locator("td").all_inner_texts())
    assert now != then
    page.get_by_role("button", name="before", exact=True).click()
    expect(page.locator(".viewer-label")).to_have_text("version A")
    assert np.abs(canvas_of(page).astype(int) - glide).mean() < 0.5
    assert violations(page) == []
    page.get_by_label("What before is").select_option("")
    expect(table).to_be_hidden()


def test_a_comparison_is_rendered(page: Page, shaky: tuple[Path, Similarities], tmp_path: Path) -> None:
    to_bench(page, shaky[0])
    press(page, "4")
    page.get_by_text("Comparison as a file").click()
    page.get_by_role("button", name="Render the comparison").click()
    link = page.get_by_role("link", name=re.compile("Download file"))
    expect(link).to_be_visible(timeout=90_000)
    expect(page.get_by_text("H.264, MP4, side by side")).to_be_visible()
    (tmp_path / "c.mp4").write_bytes(page.request.get(link.get_attribute("href")).body())
    info, _ = probe(tmp_path / "c.mp4")
    assert (info.coded.width, info.coded.height, info.frames) == (1280, 360, 90)
