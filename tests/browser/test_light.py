"""Dark corners on the bench: measured, lifted, drawn as they are rendered, set by hand."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from steps import away_from_the_still, canvas_of, draft_of, drag, go, press, settled, to_bench, to_shared_bench
from truth import SMALL

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import darkened
from keen_horizon.simulator.plane import jitter, shaken_pictures

GLASS = Falloff((-0.6, 0.05), 0.03 - 0.02j)


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
    page.get_by_role("button", name="Measure the fall-off").click()
    state = page.get_by_role("status", name="Dark corners")
    expect(state).to_contain_text(re.compile(r"corners \+ 1\.\d stops, their noise too"))
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


COUNTS = """async ([kinds]) => {
  const { counted } = await import("/static/js/views/scope.js");
  const canvas = document.querySelector(".viewer canvas");
  const gl = canvas.getContext("webgl2");
  const [width, height] = [canvas.width, canvas.height];
  const data = new Uint8Array(4 * width * height);
  gl.readPixels(0, 0, width, height, gl.RGBA, gl.UNSIGNED_BYTE, data);
  return kinds.map((kind) => counted({ data, width, height }, kind).counts.map((table) => Array.from(table)));
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

    page.get_by_role("combobox", name="Which scope").select_option("from the middle out")
    expect(scope).to_contain_text(re.compile(r"Corners at [\d.]+ % of the middle"))
    settled(page)
    shares = [corners_said(page)]
    page.locator(".light summary").click()
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


def test_it_is_set_by_hand(page: Page, dark: Path) -> None:
    """Before anything is measured, too."""
    to_bench(page, dark, measured=False)
    go(page, 20, "optics")
    page.locator(".light summary").click()
    field(page, "light at the corners").fill("40")
    field(page, "light at the corners").press("Tab")
    expect(page.get_by_role("status", name="Dark corners")).to_contain_text("corners + 1.3 stops")
    field(page, "sets in early … late").fill("1.5")
    field(page, "sets in early … late").press("Tab")
    settled(page)
    assert draft_of(page)["optics"]["falloff"]["coefficients"] == pytest.approx([0, -0.3, -0.3])
    field(page, "never more than").fill("1")
    field(page, "never more than").press("Tab")
    expect(page.get_by_role("status", name="Dark corners")).to_contain_text("corners + 1.0 stops")
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
