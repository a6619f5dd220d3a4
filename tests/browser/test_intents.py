"""Pin, Level, tilt and borrowed edges, driven as an editor would."""

from __future__ import annotations

import re
from pathlib import Path

import cv2
import numpy as np
import pytest
from accessibility import violations
from playwright.sync_api import Page, expect
from services import wait_for
from steps import asked, canvas_of, draft_of, drag, go, press, to_bench, to_shared_bench, zoom_of

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.frames import read_frames

pytestmark = pytest.mark.browser


def test_a_point_is_pinned_followed_mended_and_stays(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_bench(page, shaky[0])
    go(page, 40)
    page.get_by_role("radio", name=re.compile("Pin")).check()
    expect(page.get_by_text("Click point 1 in the picture")).to_be_visible()
    box = page.locator(".viewer canvas").bounding_box()
    page.mouse.click(box["x"] + 0.45 * box["width"], box["y"] + 0.5 * box["height"])
    expect(page.get_by_text("held throughout")).to_be_visible(timeout=60_000)
    assert violations(page) == []
    marks = draft_of(page)["motion"]["pin"]["points"][0]["marks"]
    assert [m["frame"] for m in marks] == [40]
    expect(page.locator(".strip text").filter(has_text="pin held")).to_have_count(1)
    expect(page.locator(".overlay .pins")).to_have_attribute("d", re.compile("^M"))
    shots = []
    for number in (5, 40, 80):
        go(page, number)
        picture = canvas_of(page)
        mark = re.match(r"M([\d.]+) ([\d.]+)h([\d.]+)", page.locator(".overlay .pins").get_attribute("d"))
        left, at_y, wide = (float(value) for value in mark.groups())  # type: ignore[union-attr]
        x, y = (round(value * picture.shape[1] / 640) for value in (left + wide / 2, at_y))
        shots.append(picture[y - 30 : y + 30, x - 30 : x + 30].astype(np.float32).mean(-1))
    for other in (0, 2):
        shift, response = cv2.phaseCorrelate(shots[1], shots[other])
        assert np.hypot(*shift) < 2.5, (shift, response)
    go(page, 70)
    page.get_by_role("button", name="set on this frame: point 1").click()
    page.mouse.click(box["x"] + 0.45 * box["width"], box["y"] + 0.5 * box["height"])
    expect(page.get_by_text(re.compile("set at 40, 70; held"))).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="remove point 1").click()
    expect(page.get_by_role("button", name="Choose a point")).to_be_visible()


def test_a_line_drawn_in_the_picture_levels_it(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_shared_bench(page, shaky[0])
    page.get_by_role("radio", name=re.compile("Level")).check()
    expect(page.locator(".outcome .note").first).to_contain_text(re.compile("Level by|Neither a horizon"))
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_role("button", name="Draw a line on this frame").click()
    drag(page, ".viewer canvas", (0.2, 0.5), (0.8, 0.55))
    expect(page.get_by_role("button", name="line at frame 0", exact=True)).to_be_visible()
    expect(page.locator(".outcome .note").first).to_contain_text("1 drawn line")
    line = draft_of(page)["motion"]["level"]["lines"][0]
    slope = (line["y2"] - line["y1"]) / (line["x2"] - line["x1"])
    assert slope == pytest.approx(0.05 * 360 / (0.6 * 640), abs=0.004)
    rows = asked(page, "data/transforms.csv", draft_of(page)).decode().splitlines()
    turn = float(rows[1].split(",")[4])
    assert turn == pytest.approx(-np.degrees(np.arctan(slope)), abs=0.02)
    page.get_by_role("button", name="remove the line at frame 0").click()
    expect(page.get_by_role("button", name="line at frame 0", exact=True)).to_have_count(0)


def test_borrowed_edges_cost_less_and_are_marked(page: Page, shaky: tuple[Path, Similarities], tmp_path: Path) -> None:
    to_bench(page, shaky[0])
    page.get_by_role("radio", name=re.compile("Hold")).check()
    press(page, "3")
    page.get_by_role("spinbutton", name="Zoom limit").fill("2")
    page.get_by_role("spinbutton", name="Zoom limit").press("Tab")
    expect(page.locator(".verdict")).to_contain_text("inside the limit")
    filled = zoom_of(page)
    page.get_by_role("radio", name=re.compile("Borrow")).check()
    expect(page.get_by_text("borrowed", exact=True)).to_be_visible()
    assert zoom_of(page) - 1 < 0.6 * (filled - 1)
    assert violations(page) == []
    press(page, "w")
    expect(page.locator("canvas[data-lent=exact]")).to_be_visible()
    page.wait_for_timeout(300)
    plain = canvas_of(page).astype(int)
    page.get_by_role("button", name="mark borrowed").click()
    expect(page.locator("canvas[data-lent=recent]")).to_be_visible()
    expect(page.locator("canvas[data-lent=exact]")).to_be_visible()
    page.wait_for_timeout(300)
    changed = np.abs(canvas_of(page).astype(int) - plain).max(-1) > 12
    assert 0 < changed.mean() < 0.3
    assert changed[20:-20, 40:-40].mean() < changed.mean()
    press(page, "l")
    page.wait_for_timeout(700)
    expect(page.locator("canvas[data-lent=recent]")).to_be_visible()
    press(page, "k")
    press(page, "4")
    page.get_by_role("button", name="Render").click()
    link = page.get_by_role("link", name=re.compile("Download file"))
    expect(link).to_be_visible(timeout=90_000)
    (tmp_path / "b.mp4").write_bytes(page.request.get(link.get_attribute("href")).body())
    assert len(list(read_frames(tmp_path / "b.mp4"))) == 90
    press(page, "3")
    page.get_by_role("group", name="What no frame shows").get_by_role("radio", name=re.compile("Leave")).check()
    expect(page.get_by_label("Gap colour")).to_be_visible()
    wait_for(lambda: draft_of(page)["edges"]["borrow"]["rest"] == "leave")
    assert zoom_of(page) < filled


def test_tilt_is_one_more_freedom(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_shared_bench(page, shaky[0])
    page.get_by_role("checkbox", name="tilt").check()
    wait_for(lambda: draft_of(page)["motion"]["freedom"] == ["shift", "turn", "size", "tilt"])
    expect(page.locator(".outcome tbody tr")).to_have_count(5)
    rows = dict(row.inner_text().split("\t")[::2] for row in page.locator(".outcome tbody tr").all())
    assert float(rows["tilt"]) >= 0
