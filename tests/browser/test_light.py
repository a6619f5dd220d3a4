"""Dark corners on the bench: measured, lifted, drawn as they are rendered, set by hand."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from steps import (
    away_from_the_still,
    canvas_of,
    draft_of,
    drag,
    go,
    press,
    settled,
    shown_and_still,
    to_bench,
    to_shared_bench,
    zoom_of,
)
from truth import SMALL

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import darkened
from keen_horizon.simulator.plane import jitter, shaken_pictures

GLASS = Falloff((-0.6, 0.05), 0.03 - 0.02j)
HOOD = DeadEdge(0.86, 0.03 - 0.02j, softness=0.02)


@pytest.fixture(scope="module")
def dark(media: Path) -> Path:
    """A hand that pans over the town behind glass that darkens the corners."""
    clip = media / "dark.mp4"
    shake, way = jitter(80, SMALL, 6.0, seed=4), np.linspace(0, 2 * np.pi, 80)
    poses = Similarities(shake.z, shake.t + 130 * np.sin(way) + 60j * np.sin(2 * way))
    write_pictures(darkened(shaken_pictures(poses, SMALL), SMALL, GLASS), SMALL, 30, clip, quality=14)
    return clip


def field(page: Page, name: str):
    return page.get_by_role("spinbutton", name=name, exact=True)


def corners(picture: np.ndarray) -> float:
    """The mean level of what lies in the corners."""
    rows, columns = picture.shape[0] // 6, picture.shape[1] // 6
    ends = [(slice(None, rows), slice(None, columns)), (slice(-rows, None), slice(-columns, None))]
    return float(np.mean([picture[rows, columns].mean() for rows, columns in ends]))


def test_it_is_measured_lifted_and_drawn_as_it_is_rendered(page: Page, dark: Path) -> None:
    to_shared_bench(page, dark)
    go(page, 40, "optics")
    before, usual = canvas_of(page), away_from_the_still(page, 40)  # by the proxy's compression
    page.get_by_role("button", name="Measure the dark corners").click()
    state = page.get_by_role("status", name="Dark corners")
    expect(state).to_contain_text(re.compile(r"\+1\.\d stops of noise"))
    expect(page.locator(".light")).to_contain_text(re.compile(r"Measured: 4[3-7] % of the light at the corners"))
    told = draft_of(page)["optics"]["falloff"]
    assert abs(1 + sum(told["coefficients"]) - 0.45) < 0.03
    assert np.hypot(told["centre_x"] - 0.03, told["centre_y"] + 0.02) < 0.03
    assert corners(canvas_of(page)) > 1.2 * corners(before)
    apart = away_from_the_still(page, 40)
    print(f"viewer against the renderer's still: {apart:.2f} of 255, as shot {usual:.2f}")
    assert apart < usual + 0.8

    press(page, "Control+z")
    expect(state).to_have_text("as shot")
    settled(page)
    assert np.abs(canvas_of(page).astype(int) - before).mean() < 0.5


COUNTS = """async ([kinds, part]) => {
  const { counted } = await import("/static/js/views/scope.js");
  const canvas = document.querySelector(".viewer canvas");
  const gl = canvas.getContext("webgl2");
  const [width, height] = [canvas.width, canvas.height];
  const data = new Uint8Array(4 * width * height);
  gl.readPixels(0, 0, width, height, gl.RGBA, gl.UNSIGNED_BYTE, data);
  return kinds.map((kind) => counted({ data, width, height }, kind, part).counts.map((table) => Array.from(table)));
}"""


def tallied(levels: np.ndarray, columns: np.ndarray) -> np.ndarray:
    """How often each level stands in each of 256 columns."""
    return np.bincount((256 * columns + levels).ravel(), minlength=256 * 256)


def test_scopes_count_what_is_on_show_and_see_the_corners_rise(page: Page, dark: Path) -> None:
    to_shared_bench(page, dark)
    go(page, 20, "optics")
    press(page, "s")
    scope = page.get_by_role("region", name="Scope")
    expect(scope).to_contain_text("At white")
    picture = canvas_of(page).astype(int)
    height, width = picture.shape[:2]
    y, x = np.mgrid[0:height, 0:width]
    blue, green, red = np.moveaxis(picture, -1, 0)
    luma = (54 * red + 183 * green + 19 * blue + 128) >> 8
    away = np.hypot(x - (width - 1) / 2, y - (height - 1) / 2) / (np.hypot(width, height) / 2)
    wanted = [
        [tallied(luma, x * 256 // width)],
        [tallied(luma, y * 256 // height)],
        [tallied(channel, x * 256 // width) for channel in (red, green, blue)],
        [tallied(luma, np.minimum(255, (away * 256).astype(int)))],
    ]
    found = page.evaluate(COUNTS, [["across", "down", "parade", "radius"]])
    for each, others in zip(found, wanted, strict=True):
        assert all((np.array(table) == other).all() for table, other in zip(each, others, strict=True))

    page.get_by_role("button", name="count a part").click()
    expect(scope).to_contain_text("Drag over what is to be counted")
    drag(page, ".viewer canvas", (0.25, 0.5), (0.75, 0.75))
    expect(scope).to_contain_text("Of the part: at white")
    part = picture[height // 2 : height * 3 // 4, width // 4 : width * 3 // 4]
    drawn = page.locator(".overlay path.edges").get_attribute("d") or ""
    corner = [float(figure) for figure in re.findall(r"[\d.]+", drawn)[:2]]
    assert corner == pytest.approx([0.25 * SMALL.width, 0.5 * SMALL.height], abs=4)
    (found,) = page.evaluate(COUNTS, [["across"], [0.25, 0.5, 0.75, 0.75]])
    blue, green, red = np.moveaxis(part, -1, 0)
    levels, columns = (54 * red + 183 * green + 19 * blue + 128) >> 8, np.mgrid[0 : part.shape[0], 0 : part.shape[1]][1]
    assert (np.array(found[0]) == tallied(levels, columns * 256 // part.shape[1])).all()
    (line,) = page.evaluate(COUNTS, [["across"], [0, 0.5, 1, 0.5]])
    assert sum(line[0]) == width
    page.get_by_role("button", name="count all").click()

    page.get_by_role("combobox", name="Which scope").select_option("from the middle out")
    expect(scope).to_contain_text(re.compile(r"Corners at [\d.]+ % of the middle"))
    settled(page)
    shares = [corners_said(page)]
    page.get_by_text("Fall-off by hand").click()
    field(page, "light at the corners").fill("45")
    field(page, "light at the corners").press("Tab")
    settled(page)
    shares.append(corners_said(page))
    assert shares[1] > 1.15 * shares[0]
    press(page, "s")
    expect(scope).to_be_hidden()


def corners_said(page: Page) -> float:
    return float(re.search(r"Corners at ([\d.]+) %", page.get_by_role("region", name="Scope").inner_text())[1])  # type: ignore[index]


def test_a_ring_of_light_is_dragged_and_the_corners_rise(page: Page, dark: Path) -> None:
    """The glass leaves 75 % of the light at 0.65 half-diagonals; the ring that stands elsewhere is dragged there."""
    to_shared_bench(page, dark)
    go(page, 40, "optics")
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_role("button", name="Drag rings of equal light").click()
    settled(page)
    half = np.hypot(SMALL.width, SMALL.height) / 2
    stands, wanted = np.sqrt(0.25 / 0.5) * half, 0.65 * half
    drag(page, ".viewer canvas", (0.5 - stands / SMALL.width, 0.5), (0.5 - wanted / SMALL.width, 0.5))
    falloff = draft_of(page)["optics"]["falloff"]
    assert 0.65**2 * falloff["coefficients"][0] == pytest.approx(-0.25, abs=0.015)
    drag(page, ".viewer canvas", (0.5, 0.5), (0.53, 0.47))
    falloff = draft_of(page)["optics"]["falloff"]
    assert falloff["centre_x"] == pytest.approx(0.03 * SMALL.width / half, abs=0.004)
    assert falloff["centre_y"] == pytest.approx(-0.03 * SMALL.height / half, abs=0.004)
    dark_corners = corners(canvas_of(page))
    page.get_by_role("button", name="after", exact=True).click()
    assert corners(canvas_of(page)) > 1.15 * dark_corners
    page.get_by_role("button", name="Done", exact=True).click()
    expect(page.get_by_role("button", name="Drag rings of equal light")).to_be_visible()


def test_it_is_keyed_over_the_clip(page: Page, dark: Path) -> None:
    """A zoom pulled during the shot: all figures of the fall-off are keyed together."""
    to_shared_bench(page, dark)
    go(page, 0, "optics")
    usual = away_from_the_still(page, 20)
    page.get_by_text("Fall-off by hand").click()
    corner = field(page, "light at the corners")
    corner.fill("40")
    corner.press("Tab")
    page.get_by_role("button", name="key: all of the fall-off").click()
    go(page, 40, "optics")
    corner.fill("80")
    corner.press("Tab")
    settled(page)
    expect(page.locator(".strip .key")).to_have_count(2)
    tracks = {track["figure"]: track["keys"] for track in draft_of(page)["optics"]["falloff"]["keys"]}
    assert len(tracks) == 6
    assert [(key["frame"], key["value"]) for key in tracks["falloff_1"]] == [(0, -0.6), (40, -0.2)]
    go(page, 20, "optics")
    expect(corner).to_have_value("60")
    assert away_from_the_still(page, 20) < usual + 0.8
    go(page, 40, "optics")
    page.get_by_role("button", name="unkey: all of the fall-off").click()
    settled(page)
    expect(page.locator(".strip .key")).to_have_count(1)
    go(page, 20, "optics")
    expect(corner).to_have_value("40")


def test_it_is_set_by_hand(page: Page, dark: Path) -> None:
    """Before anything is measured, too."""
    to_shared_bench(page, dark, measured=False)
    go(page, 20, "optics")
    page.get_by_text("Fall-off by hand").click()
    field(page, "light at the corners").fill("40")
    field(page, "light at the corners").press("Tab")
    expect(page.get_by_role("status", name="Dark corners")).to_contain_text("+1.3 stops of noise")
    field(page, "sets in early … late").fill("1.5")
    field(page, "sets in early … late").press("Tab")
    settled(page)
    assert draft_of(page)["optics"]["falloff"]["coefficients"] == pytest.approx([0, -0.3, -0.3])
    field(page, "never more than").fill("1")
    field(page, "never more than").press("Tab")
    expect(page.get_by_role("status", name="Dark corners")).to_contain_text("+1.0 stops of noise")
    page.get_by_role("combobox", name="How light is coded").select_option("sRGB")
    settled(page)
    assert draft_of(page)["optics"]["falloff"]["transfer"] == "srgb"
    assert away_from_the_still(page, 20) < 4
    kept = draft_of(page)["optics"]["falloff"]
    page.get_by_label("Name for this lens").fill("Dark glass")
    page.get_by_role("button", name="Keep", exact=True).last.click()
    expect(page.get_by_text("Kept as “Dark glass”.")).to_be_visible()
    page.get_by_role("button", name="Leave the corners as shot").click()
    settled(page)
    assert draft_of(page)["optics"]["falloff"] is None
    page.get_by_label("Lens profile").select_option(label="Dark glass")
    settled(page)
    assert draft_of(page)["optics"]["falloff"] == kept
    page.get_by_role("button", name="Leave the corners as shot").click()
    settled(page)
    assert draft_of(page)["optics"]["falloff"] is None


@pytest.fixture(scope="module")
def hooded(media: Path) -> Path:
    """The same hand behind a hood that lets nothing into the corners."""
    clip = media / "hooded.mp4"
    shake, way = jitter(80, SMALL, 3.0, seed=5), np.linspace(0, 2 * np.pi, 80)
    poses = Similarities(shake.z, shake.t + 100 * np.sin(way) + 50j * np.sin(2 * way))
    pictures = darkened(shaken_pictures(poses, SMALL), SMALL, Falloff((-0.2,)), dead=HOOD)
    write_pictures(pictures, SMALL, 30, clip, quality=14)
    return clip


def black(picture: np.ndarray) -> float:
    """The share of what is on show that is black."""
    return float((picture.max(2) < 12).mean())


def test_dead_corners_are_found_and_hidden_by_the_zoom_asked_for(page: Page, hooded: Path) -> None:
    to_shared_bench(page, hooded)
    go(page, 40, "optics")
    assert black(canvas_of(page)) > 0.01
    page.get_by_role("button", name="Measure the dark corners").click()
    state = page.get_by_role("status", name="Dark corners")
    expect(state).to_contain_text(re.compile(r"hidden at 1\.\d\dx"))
    expect(page.locator(".light")).to_contain_text(re.compile(r"beyond a circle that reaches 8\d\.\d % of the way"))
    settled(page)
    edge = draft_of(page)["optics"]["falloff"]["dead_edge"]
    assert edge["radius"] == pytest.approx(HOOD.radius, abs=0.01)
    assert edge["centre_x"] == pytest.approx(HOOD.centre.real, abs=0.01)
    assert zoom_of(page) == pytest.approx(1.1, abs=1e-3)  # the limit stands, and what it leaves in sight is told
    expect(page.locator(".light")).to_contain_text("The zoom limit leaves some of it in sight")
    page.get_by_role("button", name=re.compile("Hide it: limit 1")).click()
    settled(page)
    assert zoom_of(page) > 1.12
    expect(page.locator(".light .warn")).to_be_hidden()
    assert black(canvas_of(page)) < 0.002
    assert away_from_the_still(page, 40) < 4

    page.get_by_role("button", name="before", exact=True).click()
    veiled = canvas_of(page)
    assert black(veiled) < 0.01  # hatched where nothing arrived
    page.get_by_role("button", name="after", exact=True).click()

    needed = zoom_of(page)
    page.get_by_text("Dead edge by hand").click()
    field(page, "counts as picture from, of the light").fill("10")
    field(page, "counts as picture from, of the light").press("Tab")
    settled(page)
    assert zoom_of(page) < needed
    page.get_by_role("button", name="All of it is picture").click()
    settled(page)
    assert "hidden" not in state.inner_text()
    assert black(canvas_of(page)) > 0.01


def test_a_dead_edge_is_dragged_and_hatched_where_gaps_are_left(page: Page, hooded: Path) -> None:
    to_shared_bench(page, hooded)
    go(page, 40, "optics")
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_role("button", name="Drag the dead edge").click()
    settled(page)
    half = np.hypot(SMALL.width, SMALL.height) / 2
    stands, wanted = 0.95 * half, 0.8 * half
    slope = np.array([SMALL.width, SMALL.height]) / np.hypot(SMALL.width, SMALL.height)
    start, end = (0.5 + far * slope / (SMALL.width, SMALL.height) for far in (stands, wanted))
    drag(page, ".viewer canvas", tuple(start), tuple(end))
    edge = draft_of(page)["optics"]["falloff"]["dead_edge"]
    assert edge["radius"] == pytest.approx(0.8, abs=0.01)
    page.get_by_role("button", name="after", exact=True).click()
    page.get_by_text("Dead edge by hand").click()
    field(page, "dead strip, left").fill("8")
    field(page, "dead strip, left").press("Tab")
    settled(page)
    go(page, 40, "edges")
    page.get_by_role("radio", name=re.compile("^Leave keep")).check()
    settled(page)
    shown, still = (picture.astype(int) for picture in shown_and_still(page, 40))
    gap, seen = still.max(2) < 6, still.max(2) > 40  # the gap's colour is black
    assert gap.mean() > 0.15
    assert np.abs(shown - still)[seen].mean() < 4
    hatch = np.array([[29, 27, 26], [54, 56, 76]])
    hatched = np.abs(shown[:, :, None] - hatch).max(3).min(2) < 12
    assert hatched[gap].mean() > 0.85  # but for the borders of its stripes
    assert hatched[seen].mean() < 0.02


def test_a_clip_of_a_plain_wall_tells_before_any_motion_is_measured(page: Page, media: Path) -> None:
    x, y = np.meshgrid(np.arange(SMALL.width), np.arange(SMALL.height))
    wall = np.clip(150 + 0.03 * x - 0.02 * y + np.random.default_rng(2).normal(0, 2, x.shape), 0, 255)
    pictures = [np.repeat(wall.astype(np.uint8)[..., None], 3, 2)] * 12
    write_pictures(darkened(pictures, SMALL, GLASS), SMALL, 30, media / "wall.mp4", quality=14)
    to_bench(page, media / "wall.mp4", measured=False)
    go(page, 2, "optics")
    page.get_by_role("button", name="This clip is a plain wall or sky").click()
    expect(page.locator(".light")).to_contain_text(re.compile(r"Measured: 4[3-7] % of the light at the corners"))
    told = draft_of(page)["optics"]["falloff"]
    assert abs(1 + sum(told["coefficients"]) - 0.45) < 0.02
    assert np.hypot(told["centre_x"] - 0.03, told["centre_y"] + 0.02) < 0.02
