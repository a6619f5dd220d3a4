"""Optics in the browser: drawing straightedges, reading what is left, going on by hand, saving."""

from __future__ import annotations

import io
import json
import re
import zipfile
from pathlib import Path

import cv2
import numpy as np
import pytest
from accessibility import violations
from glass import RULED_LENS as LENS
from glass import RULED_SIZE as SIZE
from glass import board_poses, filmed_board, ruled_line
from playwright.sync_api import Page, expect
from services import wait_for
from steps import (
    away_from_the_still,
    bring_in,
    canvas_of,
    draft_of,
    drag,
    open_bench,
    press,
    start_project,
    to_bench,
    to_optics,
    to_shared_bench,
)

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.calibration import Board
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.plate import plates_of
from keen_horizon.core.lens.stmaps import bend_map
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import probe
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.figures import FIGURES
from keen_horizon.simulator.film import write_pictures


def click_along(page: Page, line: np.ndarray) -> None:
    """Click points (P, 2) of the source, in the view of before."""
    box = page.locator(".viewer canvas").bounding_box()
    for x, y in (line + 0.5) / (SIZE.width, SIZE.height):
        with page.expect_response(re.compile("/draft$")):
            page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])


def test_straightedges_find_the_lens_and_the_picture_follows(page: Page, ruled: Path) -> None:
    to_shared_bench(page, ruled, measured=False)
    to_optics(page)
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_role("button", name="Draw straightedges").click()
    for offset in (-2, 2):
        click_along(page, ruled_line(LENS, SIZE, offset, 5))
        press(page, "Enter")
    expect(page.locator(".edges li")).to_have_count(2)
    expect(page.locator(".edges li").first).to_contain_text("px left of")
    expect(page.locator(".fit")).to_contain_text("straight to within the hand's own noise")
    expect(page.get_by_text("one more line, anywhere near the dashed one, would tell most")).to_be_visible()
    assert len(page.locator(".overlay path.asked").get_attribute("d").split("L")) == 9
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
    page.get_by_role("button", name="Draw straightedges").click()
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_label("snap to the nearest edge").check()
    beside = ruled_line(LENS, SIZE, 1, 5)[1:2] + (0, 3)
    with page.expect_response(re.compile("/snap$")) as answer:
        click_along(page, beside)
    place = answer.value.json()["place"]
    assert 0 < abs(place[1] - beside[0, 1]) < 6
    assert abs(place[0] - beside[0, 0]) < 6
    page.get_by_role("button", name="remove line 3").click()
    press(page, "Escape")
    expect(page.get_by_role("button", name="Draw straightedges")).to_be_visible()
    page.get_by_label("Lens family to fit").select_option("inverse")
    expect(page.locator("[data-stage=optics]")).to_contain_text("inverse polynomial")
    page.get_by_role("button", name="remove line 2").click()
    expect(page.locator(".edges li")).to_have_count(1)


def test_a_lens_by_hand_is_drawn_as_it_is_rendered(page: Page, ruled: Path) -> None:
    to_shared_bench(page, ruled, measured=False)
    to_optics(page)
    page.get_by_label("Start from a field of view").select_option("120")
    expect(page.locator(".facts")).to_contain_text("120.0° corner to corner")
    expect(page.locator("[data-stage=optics]")).to_contain_text("keeps")
    apart = away_from_the_still(page, 0)
    print(f"viewer against the renderer's still: {apart:.2f} of 255")
    assert apart < 4
    page.get_by_label("no gap … nothing lost, drag").fill("1")
    expect(page.locator(".facts")).to_contain_text("100.0 % of the source")
    squeeze = page.get_by_role("spinbutton", name="squeeze", exact=True)
    squeeze.fill("9")
    squeeze.press("Enter")
    assert draft_of(page)["optics"]["lens"]["squeeze"] == FIGURES["squeeze"].high
    expect(squeeze).to_have_value("4")
    expect(squeeze).to_have_attribute("max", "4")
    page.get_by_role("button", name="Take the lens away").click()
    expect(page.locator("[data-stage=optics]")).to_contain_text("no lens")
    press(page, "Control+z")
    expect(page.locator("[data-stage=optics]")).to_contain_text("equidistant fisheye")


def test_a_profile_is_kept_given_to_another_clip_and_comes_back_from_a_file(
    page: Page, ruled: Path, shaky: tuple, tmp_path: Path
) -> None:
    to_shared_bench(page, ruled, measured=False)
    shelf = page.locator(".crumbs a").first.get_attribute("href")
    to_optics(page)
    page.get_by_label("Start from a field of view").select_option("110")
    page.get_by_label("Name for this lens").fill("Quay lens")
    page.get_by_role("button", name="Keep", exact=True).last.click()
    expect(page.get_by_text("Kept as “Quay lens”.")).to_be_visible()
    kept = draft_of(page)["optics"]["lens"]
    page.goto(shelf)
    bring_in(page, shaky[0])
    page.get_by_role("link", name="lens profiles").click()
    page.get_by_role("button", name="open Quay lens").click()
    assert violations(page) == []
    page.get_by_role("checkbox", name=re.compile(shaky[0].name)).last.check()
    page.get_by_role("button", name="Give the lens to these").click()
    expect(page.get_by_text("Given to 1 clip.")).to_be_visible()
    with page.expect_download() as loading:
        page.get_by_role("link", name="OpenCV, YAML").click()
    loading.value.save_as(tmp_path / "calibration.yml")
    page.get_by_label("note", exact=True).fill("from the quay")
    page.get_by_role("button", name="Keep the changes").click()
    expect(page.get_by_text("Quay lens").first).to_be_visible()
    expect(page.locator(".profiles")).to_contain_text("from the quay")
    page.get_by_role("button", name="forget Quay lens").click()
    expect(page.get_by_role("button", name="open Quay lens")).to_have_count(0)
    page.set_input_files("#lens-file", tmp_path / "calibration.yml")
    expect(page.get_by_text("calibration.yml came in.")).to_be_visible()
    page.goto(shelf)
    open_bench(page, shaky[0].name)
    to_optics(page)
    expect(page.locator("[data-stage=optics]")).to_contain_text("equidistant fisheye")
    assert draft_of(page)["optics"]["lens"] == kept
    page.get_by_label("Lens profile").select_option(label="Quay lens")
    expect(page.locator("[data-stage=optics]")).to_contain_text("fisheye series")
    assert draft_of(page)["optics"]["lens"]["coefficients"][0] == pytest.approx(kept["coefficients"][0], rel=1e-9)


def test_the_clip_shows_its_lens_by_itself_or_says_why_not(page: Page, ruled: Path, shaky: tuple) -> None:
    to_bench(page, ruled, measured=False)
    to_optics(page)
    page.get_by_role("button", name="Look for the lens").click()
    expect(page.get_by_text(re.compile(r"\d+ edges on 5 frames agree on this lens; confidence \d+ %"))).to_be_visible()
    expect(page.locator("[data-stage=optics]")).not_to_contain_text("no lens")
    optics = draft_of(page)["optics"]
    found = Lens(optics["lens"]["family"], tuple(optics["lens"]["coefficients"]))
    judged = found.straighten(ruled_line(LENS, SIZE, 2), SIZE)
    assert np.ptp(judged[:, 1]) < 2.0
    edges = len(optics["straightedges"])
    expect(page.locator(".edges li")).to_have_count(edges)
    page.get_by_role("button", name="remove line 1", exact=True).click()
    expect(page.locator(".edges li")).to_have_count(edges - 1)
    page.get_by_role("button", name="Take what was found").click()
    expect(page.locator(".edges li")).to_have_count(edges)
    assert violations(page) == []


def test_the_grid_is_turned_along_a_line_and_never_in_the_picture(page: Page, ruled: Path) -> None:
    to_shared_bench(page, ruled, measured=False)
    to_optics(page)
    wait_for(lambda: canvas_of(page).any())
    page.wait_for_timeout(500)
    before = canvas_of(page)
    page.get_by_text("Grid to judge by").click()
    page.get_by_role("button", name="Turn it along a line").click()
    drag(page, ".viewer canvas", (0.2, 0.5), (0.8, 0.55))
    turn = np.degrees(np.arctan2(0.05 * SIZE.height, 0.6 * SIZE.width))
    assert float(page.locator("#grid-turn").input_value()) == pytest.approx(turn, abs=0.15)
    lines = page.locator(".overlay path.grid")
    assert len(re.findall("M", lines.get_attribute("d"))) >= 24
    page.locator("#grid-cells").fill("4")
    wanted = lines.get_attribute("d")
    first = re.match(r"M([\d.-]+) ([\d.-]+)L([\d.-]+) ([\d.-]+)", wanted)
    x1, y1, x2, y2 = (float(value) for value in first.groups())  # type: ignore[union-attr]
    assert np.degrees(np.arctan2(x1 - x2, y2 - y1)) == pytest.approx(turn, abs=0.2)
    page.locator("#grid-colour").fill("#ff8800")
    assert lines.evaluate("line => getComputedStyle(line).stroke") == "rgb(255, 136, 0)"
    assert np.array_equal(canvas_of(page), before)
    assert violations(page) == []
    page.locator(".viewer canvas").click()
    press(page, "g")
    assert lines.get_attribute("d") == ""


def test_maps_plate_and_bent_back_graphics_are_made_and_read_back(page: Page, ruled: Path, tmp_path: Path) -> None:
    to_shared_bench(page, ruled, measured=False)
    press(page, "4")
    page.get_by_text("For tracking and 3-D").click()
    expect(page.get_by_text("Set one under Optics first")).to_be_visible()
    to_optics(page)
    page.get_by_label("Start from a field of view").select_option("120")
    expect(page.locator(".facts")).to_contain_text("120.0° corner to corner")
    page.get_by_label("larger output, the middle as sharp as shot").check()
    page.get_by_label("no gap … nothing lost, drag").fill("1")
    expect(page.locator(".facts")).to_contain_text("delivered as")
    press(page, "4")
    assert violations(page) == []
    page.get_by_role("button", name="Write the ST maps").click()
    newest = page.locator(".renders li").first
    expect(newest).to_contain_text("ST maps", timeout=60_000)
    data = page.request.get(newest.locator("a").first.get_attribute("href")).body()
    plate = plates_of(Treatment.from_json(draft_of(page)), SIZE, ruled.name).at(0)
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        facts = json.loads(archive.read("maps.json"))
        bend = cv2.imdecode(np.frombuffer(archive.read("bend.tif"), np.uint8), cv2.IMREAD_UNCHANGED)[..., ::-1]
    assert (facts["plate_width"], facts["plate_height"]) == (plate.size.width, plate.size.height)
    assert np.abs(bend / 65535 - bend_map(plate)).max() < 1e-5
    graphics = np.zeros((plate.size.height, plate.size.width, 4), np.uint8)
    graphics[: plate.size.height // 2] = (0, 0, 255, 255)
    cv2.imwrite(str(tmp_path / "upper.png"), graphics)
    page.set_input_files("#graphics", tmp_path / "upper.png")
    expect(newest).to_contain_text("upper.png bent back", timeout=60_000)
    (tmp_path / "over.mp4").write_bytes(page.request.get(newest.locator("a").first.get_attribute("href")).body())
    luma = [frame.luma.astype(int) for frame in read_frames(tmp_path / "over.mp4")]
    assert len(luma) == 24
    assert np.abs(luma[5][:150] - 81).mean() < 3 < np.abs(luma[5][210:] - 81).mean()
    page.get_by_role("button", name="Render the straight plate").click()
    expect(newest).to_contain_text("straight plate", timeout=90_000)
    (tmp_path / "plate.mp4").write_bytes(page.request.get(newest.locator("a").first.get_attribute("href")).body())
    assert probe(tmp_path / "plate.mp4")[0].coded == plate.size


def test_a_filmed_board_becomes_a_profile(page: Page, media: Path) -> None:
    size, board, random = Size(720, 404), Board("chessboard", 9, 6), np.random.default_rng(2)
    shots = [filmed_board(LENS, size, board, turn, shift, random) for turn, shift in board_poses(12, 5)]
    clip = media / "board.mp4"
    write_pictures((cv2.cvtColor(shot, cv2.COLOR_GRAY2BGR) for shot in shots), size, 12, clip, quality=8)
    start_project(page)
    bring_in(page, clip)
    page.get_by_role("link", name="lens profiles").click()
    page.get_by_text("From a printed board").click()
    assert (
        page.request.get(page.get_by_role("link", name="the board to print").get_attribute("href"))
        .text()
        .count("<rect")
        == 36
    )
    assert violations(page) == []
    page.get_by_label("filmed in").select_option(label="board.mp4")
    page.get_by_label("call the lens").fill("Board lens")
    page.get_by_label("across").fill("8")
    page.get_by_role("button", name="Find the lens").click()
    expect(page.get_by_text("The board was seen whole on 0 frames, 4 are needed")).to_be_visible(timeout=90_000)
    page.get_by_label("across").fill("9")
    page.get_by_role("button", name="Find the lens").click()
    expect(page.get_by_text("“Board lens” was found.")).to_be_visible(timeout=90_000)
    row = page.locator(".profiles tr").filter(has_text="Board lens")
    expect(row).to_contain_text(re.compile(r"(119|120|121)°"))
    expect(row).to_contain_text(re.compile(r"0\.\d\d px off"))
