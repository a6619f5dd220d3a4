"""Optics in the browser: drawing straightedges, reading what is left, going on by hand, saving."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from accessibility import violations
from glass import ruled_line, ruled_picture
from playwright.sync_api import Page, expect
from steps import canvas_of, draft_of, to_bench

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens, fisheye_of
from keen_horizon.simulator.film import write_pictures

SIZE = Size(640, 360)
LENS = fisheye_of("equidistant", 120)


@pytest.fixture(scope="module")
def ruled(media: Path) -> Path:
    clip = media / "ruled.mp4"
    write_pictures((ruled_picture(LENS, SIZE) for _ in range(24)), SIZE, 24, clip, quality=10)
    return clip


def click_along(page: Page, line: np.ndarray) -> None:
    """Click points (P, 2) of the source, in the view of before."""
    box = page.locator("canvas").bounding_box()
    for x, y in (line + 0.5) / (SIZE.width, SIZE.height):
        with page.expect_response(re.compile("/draft$")):
            page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])


def test_straightedges_find_the_lens_and_the_picture_follows(page: Page, ruled: Path) -> None:
    to_bench(page, ruled, measured=False)
    page.keyboard.press("1")
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_role("button", name="Draw straightedges").click()
    for offset in (-2, 2):
        click_along(page, ruled_line(LENS, SIZE, offset, 5))
        page.get_by_role("button", name="Next line").click()
    expect(page.locator(".edges li")).to_have_count(2)
    expect(page.locator(".edges li").first).to_contain_text("px left of")
    expect(page.locator(".fit")).to_contain_text("straight to within the hand's own noise")
    assert violations(page) == []
    drawn = draft_of(page)["optics"]
    found = Lens(drawn["lens"]["family"], tuple(drawn["lens"]["coefficients"]))
    judged = found.straighten(ruled_line(LENS, SIZE, 2), SIZE)
    assert np.ptp(judged[:, 1]) < 2.0
    assert [len(edge["points"]) for edge in drawn["straightedges"]] == [5, 5]
    before = canvas_of(page).astype(int)
    page.get_by_role("button", name="Done drawing").click()
    page.get_by_role("button", name="after", exact=True).click()
    page.wait_for_timeout(500)
    assert np.abs(canvas_of(page).astype(int) - before).mean() > 4
    page.get_by_label("Lens family to fit").select_option("inverse")
    expect(page.locator("[data-stage=optics]")).to_contain_text("inverse polynomial")
    page.get_by_role("button", name="remove line 2").click()
    expect(page.locator(".edges li")).to_have_count(1)


def test_a_lens_by_hand_is_drawn_as_it_is_rendered(page: Page, ruled: Path) -> None:
    to_bench(page, ruled, measured=False)
    page.keyboard.press("1")
    page.get_by_label("Start from a field of view").select_option("120")
    expect(page.locator(".facts")).to_contain_text("120.0° corner to corner")
    expect(page.locator("[data-stage=optics]")).to_contain_text("keeps")
    page.wait_for_timeout(500)
    live = canvas_of(page)
    query = page.evaluate("draft => encodeURIComponent(JSON.stringify(draft))", draft_of(page))
    address = re.sub(r"\?.*", "", page.url).replace("/clips/", "/media/clips/")
    exact = page.request.get(f"{address}/still.jpg?frame=0&treatment={query}").body()
    import cv2

    still = cv2.imdecode(np.frombuffer(exact, np.uint8), cv2.IMREAD_COLOR)
    shown = cv2.resize(live[..., :3], (still.shape[1], still.shape[0]), interpolation=cv2.INTER_AREA)
    difference = np.abs(shown.astype(int) - still.astype(int)).mean()
    print(f"viewer against the renderer's still: {difference:.2f} of 255")
    assert difference < 4
    page.get_by_label("no gap … nothing lost, drag").fill("1")
    expect(page.locator(".facts")).to_contain_text("100.0 % of the source")
    page.get_by_role("button", name="Take the lens away").click()
    expect(page.locator("[data-stage=optics]")).to_contain_text("no lens")
    page.keyboard.press("Control+z")
    expect(page.locator("[data-stage=optics]")).to_contain_text("equidistant fisheye")
