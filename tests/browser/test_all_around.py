"""A clip that shows all around, from the shelf's question to the delivered sphere and view."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Locator, Page, Route, expect
from spheres import SMALL, harbour, rocking
from steps import bring_in, canvas_of, draft_of, press, settled, shown_and_still, start_project

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.probe import probe
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.sphere import SphereFilm

FRAMES = 40
INSET = 0.28
SOLVE = re.compile(r"/api/clips/\d+/solve")


@pytest.fixture(scope="module")
def rocked(media: Path) -> Path:
    """The harbour from a rocking boat; the file does not say that it is a sphere."""
    clip = media / "rocked.mp4"
    pictures = SphereFilm(harbour(), Sphere(SMALL), rocking(FRAMES, degrees=3)).pictures()
    write_pictures((on_deck(picture) for picture in pictures), SMALL, 25, clip, quality=14)
    return clip


def on_deck(picture: np.ndarray) -> np.ndarray:
    """The picture with a deck below, which the camera carries along: from 60 degrees down."""
    deck = picture.copy()
    first = round(SMALL.height * 5 / 6)
    planks = np.arange(SMALL.width) // 16 % 2 ^ np.arange(first, SMALL.height)[:, None] // 14 % 2
    deck[first:] = np.where(planks[..., None] > 0, (60, 90, 120), (95, 135, 170))
    return deck


def figure(page: Page, name: str) -> Locator:
    return page.locator(".ledger-total div", has_text=name).locator("dd")


def measured_on_its_bench(page: Page, clip: Path) -> None:
    """A new project's clip, said to show all around, and measured."""
    start_project(page)
    bring_in(page, clip)
    asking = page.get_by_role("group", name=f"What {clip.name} shows")
    asking.get_by_role("button", name="All around").click()
    expect(page.get_by_text("Shows all around.")).to_be_visible()
    expect(asking).to_be_hidden()
    page.get_by_role("link", name=clip.name, exact=True).click()
    settled(page)
    press(page, "1")
    page.get_by_role("button", name="Measure motion").click()
    expect(figure(page, "shake left")).to_be_visible()


def beside_the_inset(page: Page, frame: int) -> float:
    """How far the viewer is from the renderer's own still, of 255, but for its inset."""
    shown, still = (picture.astype(int) for picture in shown_and_still(page, frame))
    rows, columns = still.shape[:2]
    apart = np.abs(shown - still).mean(-1)
    apart[rows - round(columns * INSET / 2) - 4 :, columns - round(columns * INSET) - 4 :] = np.nan
    return float(np.nanmean(apart))


def test_a_sphere_is_steadied_looked_around_in_and_delivered(page: Page, rocked: Path) -> None:
    measured_on_its_bench(page, rocked)
    page.get_by_role("radio", name=re.compile("^Level")).check()
    expect(page.get_by_text("Level by the horizon all around")).to_be_visible()
    as_shot, left = (float(figure(page, name).inner_text().rstrip(" °")) for name in ("shake as shot", "shake left"))
    assert left < 0.1 * as_shot

    press(page, "2")
    page.get_by_role("radio", name=re.compile("^Flat")).check()
    page.get_by_label("Width of the delivered picture").fill("640")
    page.get_by_label("Width of the delivered picture").press("Tab")
    page.get_by_label("Height of the delivered picture").fill("360")
    page.get_by_label("Height of the delivered picture").press("Tab")
    settled(page)
    before = canvas_of(page)
    box = page.locator("canvas.around").bounding_box()
    assert box is not None
    middle = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 3)
    page.mouse.move(*middle)
    page.mouse.down()
    page.mouse.move(middle[0] + box["width"] / 4, middle[1], steps=4)
    page.mouse.up()
    settled(page)
    key = draft_of(page)["view"]["keys"][0]
    assert -30 < key["yaw_deg"] < -15  # a quarter of a view of 90 degrees, to the left
    assert np.abs(canvas_of(page).astype(int) - before).mean() > 5
    apart = beside_the_inset(page, 0)
    print(f"viewer against the renderer's still, a view of 90 degrees: {apart:.2f} of 255")
    assert apart < 4
    press(page, "Alt+ArrowRight")
    settled(page)
    assert draft_of(page)["view"]["keys"][0]["yaw_deg"] == pytest.approx(key["yaw_deg"] + 1, abs=0.01)


def test_what_is_being_typed_outlasts_an_answer(page: Page, rocked: Path) -> None:
    measured_on_its_bench(page, rocked)
    press(page, "2")
    page.get_by_role("radio", name=re.compile("^Flat")).check()
    turned = page.get_by_role("group", name="To the right", exact=True).get_by_role("spinbutton")
    page.get_by_label("Width of the delivered picture").fill("480")
    held: list[Route] = []
    page.route(SOLVE, lambda route: held.append(route))
    with page.expect_request(SOLVE):
        page.get_by_label("Width of the delivered picture").press("Tab")
    turned.fill("170")
    assert held
    for route in held:
        route.continue_()
    page.unroute(SOLVE)
    settled(page)  # it is answered now
    expect(turned).to_have_value("170")
    turned.press("Tab")
    settled(page)
    assert draft_of(page)["view"]["keys"][0]["yaw_deg"] == 170
    turned.fill("")
    turned.press("Tab")
    expect(turned).to_have_value("170")  # nothing is no figure


def test_a_turn_is_keyed_across_the_back_and_delivered(page: Page, rocked: Path, tmp_path: Path) -> None:
    measured_on_its_bench(page, rocked)
    page.get_by_role("radio", name=re.compile("^Hold")).check()
    press(page, "2")
    page.get_by_role("radio", name=re.compile("^Stereographic")).check()

    def look(name: str, value: str) -> None:
        spin = page.get_by_role("group", name=name, exact=True).get_by_role("spinbutton")
        spin.fill(value)
        spin.press("Tab")
        settled(page)

    for side, length in (("Width", "480"), ("Height", "270")):
        page.get_by_label(f"{side} of the delivered picture").fill(length)
        page.get_by_label(f"{side} of the delivered picture").press("Tab")
    look("To the right", "170")
    look("Width", "120")
    page.get_by_role("button", name="view", exact=True).click()  # keys go to a typed figure otherwise
    for _ in range(2):
        press(page, "Shift+ArrowRight")
    expect(page.get_by_label("Time and frame")).to_contain_text("frame 20")
    page.get_by_role("button", name="key here", exact=True).click()
    look("To the right", "-170")
    look("Roundness", "0.4")
    keys = draft_of(page)["view"]["keys"]
    assert [(key["frame"], key["yaw_deg"]) for key in keys] == [(0, 170), (20, -170)]
    page.get_by_role("button", name="view", exact=True).click()
    for _ in range(10):
        press(page, "ArrowLeft")
    expect(page.get_by_label("Time and frame")).to_contain_text("frame 10")
    settled(page)
    yaw = float(page.get_by_role("group", name="To the right", exact=True).get_by_role("spinbutton").input_value())
    assert abs(abs(yaw) - 180) < 1
    assert beside_the_inset(page, 10) < 4

    press(page, "3")
    delivered = []
    for count in (1, 2):
        page.get_by_role("button", name="Render", exact=True).click()
        expect(page.get_by_role("link", name=re.compile("Download file"))).to_have_count(count)
        with page.expect_download() as waiting:
            page.get_by_role("link", name=re.compile("Download file")).first.click()
        delivered.append(tmp_path / f"{count}.mp4")
        waiting.value.save_as(delivered[-1])
        press(page, "2")
        page.get_by_role("radio", name=re.compile("^Sphere")).check()
        settled(page)
        press(page, "3")
    view, sphere = (probe(path)[0] for path in delivered)
    assert (view.spherical, view.coded, view.frames) == (None, Size(480, 270), FRAMES)
    assert (sphere.spherical, sphere.coded, sphere.frames) == ("sphere", SMALL, FRAMES)


def test_what_is_carried_and_what_goes_by_are_ignored(page: Page, rocked: Path) -> None:
    measured_on_its_bench(page, rocked)
    believing = page.locator("details.believing")
    believing.locator("summary").click()
    believing.get_by_role("button", name="Show the points").click()
    told = believing.get_by_text(re.compile("stand still, "))
    expect(told).to_be_visible()
    marks = page.locator("svg.overlay path.other")
    assert marks.get_attribute("d")
    suggested = believing.get_by_text("Carried along")
    expect(suggested).to_have_count(1)
    believing.get_by_role("button", name=re.compile("^ignore what moves")).click()
    expect(suggested).to_have_count(0)
    expect(told).to_contain_text("ignored")
    settled(page)
    assert draft_of(page)["motion"]["ignore"][0]["follows"] is False
    expect(page.locator("svg.overlay .area-outline").first).to_be_attached()
    carried = ignored_of(told.inner_text())
    assert carried > 10

    believing.get_by_role("button", name="Ignore an area").click()
    expect(believing.get_by_text("Draw around what is to be ignored.")).to_be_visible()
    box = page.locator("canvas.around").bounding_box()
    assert box is not None
    corners = [(0.3, 0.35), (0.6, 0.35), (0.6, 0.6), (0.3, 0.6)]
    places = [(box["x"] + x * box["width"], box["y"] + y * box["height"]) for x, y in corners]
    page.mouse.move(*places[0])
    page.mouse.down()
    for place in places[1:]:
        page.mouse.move(*place, steps=8)
    page.mouse.up()
    expect(believing.get_by_label("Name of area 2")).to_have_value("Area 2")
    settled(page)
    both = ignored_of(told.inner_text())
    assert both > carried + 10
    drawn = points_of(page.locator("svg.overlay .area-outline").last.get_attribute("points"))
    for _ in range(2):
        press(page, "Shift+ArrowRight")
    expect(page.get_by_label("Time and frame")).to_contain_text("frame 20")
    settled(page)
    expect(told).to_contain_text("ignored")
    followed = points_of(page.locator("svg.overlay .area-outline").last.get_attribute("points"))
    moved = (followed.mean(0) - drawn.mean(0)) / box["width"] * 360
    assert 10 < -moved[0] < 22  # degrees: the town goes to the left while the boat turns
    believing.get_by_role("button", name="draw Area 2 anew on this frame").click()
    page.mouse.move(*places[0])
    page.mouse.down()
    for place in places[1:]:
        page.mouse.move(*place, steps=8)
    page.mouse.up()
    settled(page)
    areas = draft_of(page)["motion"]["ignore"]
    assert [[key["frame"] for key in area["keys"]] for area in areas] == [[0], [0, 20]]


def ignored_of(told: str) -> int:
    """How many points are said to be ignored."""
    found = re.search(r"(\d+) ignored", told)
    assert found
    return int(found[1])


def test_a_subject_is_pinned_up_is_drawn_and_both_are_compared(page: Page, rocked: Path, tmp_path: Path) -> None:
    measured_on_its_bench(page, rocked)
    canvas = page.locator("canvas.around")
    box = canvas.bounding_box()
    assert box is not None

    page.get_by_role("radio", name=re.compile("^Pin")).check()
    expect(page.get_by_text("Click point 1 in the picture")).to_be_visible()
    page.mouse.click(box["x"] + 0.5 * box["width"], box["y"] + 0.47 * box["height"])
    expect(page.get_by_role("group", name="Point 1")).to_contain_text("held throughout")
    settled(page)
    cross = page.locator("svg.overlay .pin-cross")
    expect(cross).to_have_count(2)
    pinned_at = cross.first.get_attribute("points")
    for _ in range(2):
        press(page, "Shift+ArrowRight")
    expect(page.get_by_label("Time and frame")).to_contain_text("frame 20")
    settled(page)
    here, there = (points_of(text) for text in (pinned_at, cross.first.get_attribute("points")))
    assert np.abs(here - there).max() < 2  # CSS px: it stays where it was set

    page.get_by_role("radio", name=re.compile("^Level")).check()
    expect(page.get_by_text("Level by the horizon all around")).to_be_visible()
    page.get_by_role("button", name="horizon", exact=True).click()
    settled(page)
    line = np.concatenate([points_of(part.get_attribute("points")) for part in page.locator(".horizon-line").all()])
    assert np.abs(line[:, 1] - box["height"] / 2).max() < 3  # upright, it is level
    page.get_by_role("button", name="Draw a line on this frame").click()
    page.mouse.move(box["x"] + 0.2 * box["width"], box["y"] + 0.52 * box["height"])
    page.mouse.down()
    page.mouse.move(box["x"] + 0.45 * box["width"], box["y"] + 0.5 * box["height"], steps=4)
    page.mouse.up()
    expect(page.get_by_text("Level by the lines that were drawn.")).to_be_visible()
    page.get_by_role("button", name=re.compile("^remove the line at frame")).click()
    expect(page.get_by_text("Level by the horizon all around")).to_be_visible()

    settled(page)
    steadied = canvas_of(page).astype(int)
    page.get_by_role("button", name="save new").click()
    expect(page.get_by_role("group", name="Versions").get_by_role("button", name="A", exact=True)).to_be_visible()
    page.get_by_role("radio", name=re.compile("^As shot")).check()
    page.get_by_label("What before is").select_option("A")
    page.get_by_role("button", name="version A", exact=True).click()
    settled(page)
    assert np.abs(canvas_of(page) - steadied).mean() < 1
    then, now = page.get_by_role("row", name=re.compile("^shake left")).get_by_role("cell").all_inner_texts()
    assert float(then.split()[0]) < float(now.split()[0])
    page.get_by_label("What before is").select_option("")
    expect(page.get_by_role("row", name=re.compile("^shake left"))).to_be_hidden()
    page.get_by_role("radio", name=re.compile("^Level")).check()
    page.get_by_role("button", name="sphere", exact=True).click()
    settled(page)
    page.get_by_role("button", name="wipe", exact=True).click()
    settled(page)
    wiped = canvas_of(page).astype(int)
    half = wiped.shape[1] // 2
    assert np.abs(wiped[:, half + 10 :] - steadied[:, half + 10 :]).mean() < 0.5
    assert np.abs(wiped[:, : half - 10] - steadied[:, : half - 10]).mean() > 3

    press(page, "3")
    page.get_by_text("Comparison as a file").click()
    page.get_by_role("button", name="Render the comparison").click()
    with page.expect_download() as waiting:
        page.get_by_role("link", name=re.compile("Download file")).first.click()
    waiting.value.save_as(tmp_path / "both.mp4")
    both = probe(tmp_path / "both.mp4")[0]
    assert (both.coded, both.frames, both.spherical) == (Size(2 * SMALL.width, SMALL.height), FRAMES, None)
    page.get_by_text("Data of these settings").click()
    page.get_by_text("report to print").click()
    expect(page.get_by_text("turned by at most")).to_be_visible()
    expect(page.get_by_text("Put upright by up to")).to_be_visible()


def points_of(text: str | None) -> np.ndarray:
    """The points (n, 2) of a drawn line."""
    return np.array([[float(part) for part in point.split(",")] for point in (text or "").split()])
