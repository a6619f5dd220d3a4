"""Optics that change over the clip, in the browser: keys, turns, four corners, projections, the ring."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from accessibility import violations
from glass import RULED_SIZE as SIZE
from playwright.sync_api import Page, expect
from steps import away_from_the_still, draft_of, drag, go, press, saved, settled, to_bench, to_optics, to_shared_bench


def set_figure(page: Page, name: str, value: str) -> None:
    page.get_by_role("spinbutton", name=name, exact=True).fill(value)
    page.get_by_role("spinbutton", name=name, exact=True).press("Enter")
    settled(page)


def keys_of(page: Page) -> dict[str, dict[int, float]]:
    tracks = draft_of(page)["optics"]["keys"]
    return {track["figure"]: {key["frame"]: key["value"] for key in track["keys"]} for track in tracks}


def test_a_tilt_is_keyed_and_drawn_as_it_is_rendered(page: Page, ruled: Path) -> None:
    to_shared_bench(page, ruled, measured=False)
    to_optics(page)
    page.get_by_label("Start from a field of view").select_option("120")
    page.get_by_role("button", name="key: pitch at this frame").click()
    go(page, 20, "optics")
    set_figure(page, "pitch", "14")
    assert keys_of(page) == {"pitch_deg": {0: 0.0, 20: 14.0}}
    expect(page.locator(".strip .key")).to_have_count(2)
    assert violations(page) == []
    page.get_by_label("Zoom of keyed optics").select_option("each frame")
    at_the_end = page.locator(".facts li").first.inner_text()
    go(page, 12, "optics")
    assert 4 < float(page.get_by_role("spinbutton", name="pitch", exact=True).input_value()) < 12
    assert page.locator(".facts li").first.inner_text() != at_the_end
    apart = away_from_the_still(page, 12)
    print(f"viewer against the renderer's still, keyed: {apart:.2f} of 255")
    assert apart < 4
    go(page, 0, "optics")
    page.get_by_label("How it goes on from this key").select_option("hold")
    eases = {key["frame"]: key["ease"] for key in draft_of(page)["optics"]["keys"][0]["keys"]}
    assert eases == {0: "hold", 20: "smooth"}
    page.get_by_role("button", name="unkey: pitch at this frame").click()
    assert keys_of(page) == {"pitch_deg": {20: 14.0}}
    press(page, "Control+z")
    assert keys_of(page) == {"pitch_deg": {0: 0.0, 20: 14.0}}


def test_a_drawn_line_levels_and_four_corners_make_a_rectangle(page: Page, ruled: Path) -> None:
    to_shared_bench(page, ruled, measured=False)
    to_optics(page)
    page.get_by_role("button", name="Draw a horizon or a vertical").click()
    drag(page, ".viewer canvas", (0.2, 0.5), (0.8, 0.56))
    expect(page.locator(".world-lines li")).to_have_count(1)
    slope = np.degrees(np.arctan2(0.06 * SIZE.height, 0.6 * SIZE.width))
    expect(page.locator("[data-stage=optics]")).to_contain_text("turned")
    assert draft_of(page)["optics"]["turn"]["roll_deg"] == pytest.approx(slope, abs=0.15)
    page.get_by_role("button", name="remove level line 1").click()
    assert draft_of(page)["optics"]["turn"]["roll_deg"] == 0
    page.get_by_role("button", name="Click four corners").click()
    box = page.locator(".viewer canvas").bounding_box()
    for x, y in ((0.3, 0.3), (0.7, 0.27), (0.73, 0.72), (0.28, 0.7)):
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
    expect(page.get_by_role("button", name="Reset the four corners")).to_be_enabled()
    moved = np.reshape(draft_of(page)["optics"]["corners"], (4, 2))
    assert 0.01 < np.abs(moved).max() < 0.3
    assert away_from_the_still(page, 0) < 4
    page.get_by_role("button", name="Reset the four corners").click()
    assert not any(draft_of(page)["optics"]["corners"])
    page.get_by_role("button", name="Click four corners").click()
    for x, y in ((0.3, 0.3), (0.5, 0.3), (0.7, 0.3), (0.9, 0.3)):
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
    expect(page.locator(".controls > .trouble")).to_contain_text("too far from a rectangle")


def test_the_ring_bends_and_projections_are_drawn_as_they_are_rendered(page: Page, ruled: Path) -> None:
    to_shared_bench(page, ruled, measured=False)
    to_optics(page)
    page.get_by_label("Start from a field of view").select_option("150")
    for projection in ("cylinder", "stereographic"):
        page.get_by_label("Projection of the picture").select_option(projection)
        apart = away_from_the_still(page, 0)
        print(f"{projection}: {apart:.2f} of 255")
        assert apart < 4
    page.get_by_label("Projection of the picture").select_option("straight")
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_role("button", name="Shape it on the picture").click()
    before = draft_of(page)["optics"]["lens"]
    half = np.hypot(SIZE.width, SIZE.height) / 2
    out = (0.5 + before["coefficients"][0] * 0.5**3 / 3) * half / SIZE.width
    drag(page, ".viewer canvas", (0.5 - out, 0.5), (0.5 - out + 0.03, 0.5))
    assert draft_of(page)["optics"]["lens"]["coefficients"][0] < before["coefficients"][0] - 0.3
    drag(page, ".viewer canvas", (0.5, 0.5), (0.53, 0.5))
    assert draft_of(page)["optics"]["lens"]["centre_x"] == pytest.approx(0.03 * SIZE.width / half, abs=0.01)
    page.get_by_role("button", name="Done", exact=True).click()
    expect(page.get_by_role("button", name="Shape it on the picture")).to_be_visible()


def test_a_flat_thing_is_followed_and_its_corners_go_out(page: Page, shaky: tuple) -> None:
    to_bench(page, shaky[0], measured=False)
    press(page, "4")
    page.get_by_text("For tracking and 3-D").click()
    page.get_by_role("button", name="Set four corners on this frame").click()
    box = page.locator(".viewer canvas").bounding_box()
    for x, y in ((0.35, 0.35), (0.65, 0.35), (0.65, 0.7), (0.35, 0.7)):
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
    expect(page.get_by_text("Held throughout.")).to_be_visible()
    assert violations(page) == []
    expect(page.locator("img.check")).to_be_hidden()
    page.get_by_label("lay a chequered picture on it").check()
    check = page.locator("img.check")
    expect(check).to_be_visible()
    there = check.bounding_box()
    assert there["width"] == pytest.approx(0.3 * box["width"], rel=0.05)
    rows = [row.split(",") for row in saved(page, "corners CSV").read_text().splitlines()]
    assert len(rows) == 91
    found = np.array([[float(value) for value in row[3:11]] for row in rows[1:]]).reshape(-1, 4, 2)
    poses = shaky[1]
    corners = found[0, :, 0] + 1j * found[0, :, 1]
    truth = np.array([(poses[[i]].inverse() @ poses[[0]]).apply(corners)[0] for i in range(90)])
    apart = np.abs(found[..., 0] + 1j * found[..., 1] - truth)
    print(f"corners against the truth: {np.sqrt((apart**2).mean()):.3f} px RMS")
    assert np.sqrt((apart**2).mean()) < 0.3
    page.get_by_role("button", name="remove the corners of frame 0").click()
    expect(check).to_be_hidden()
    assert draft_of(page)["optics"]["flat"] is None


def test_a_turned_camera_s_picture_is_projected_and_lent_as_it_is_rendered(page: Page, shaky) -> None:
    to_shared_bench(page, shaky[0])
    to_optics(page)
    page.get_by_label("Start from a field of view").select_option("120")
    page.get_by_label("Projection of the picture").select_option("stereographic")
    press(page, "2")
    page.get_by_role("radio", name=re.compile("Hold")).check()
    expect(page.locator(".outcome").first).to_contain_text("turning the camera")
    press(page, "3")
    page.get_by_role("radio", name=re.compile("^Borrow")).check()
    page.get_by_role("radio", name=re.compile("^Leave show")).last.check()
    page.route(re.compile("stills"), lambda route: route.abort())  # so that only recent frames can lend
    go(page, 36, "edges")
    for frame in range(35, 29, -1):
        press(page, "ArrowLeft")
        expect(page.get_by_label("Time and frame")).to_contain_text(f"frame {frame}")
        settled(page)
    expect(page.locator(".viewer canvas").first).to_have_attribute("data-lent", "recent")
    apart = away_from_the_still(page, 30)
    print(f"viewer against the renderer's still, lent behind a turned camera: {apart:.2f} of 255")
    assert apart < 4
