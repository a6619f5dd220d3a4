"""Bending on the bench: said to be worth while, taken, seen, drawn as it is rendered, and told in figures."""

from __future__ import annotations

import re
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect
from staging import RATE, SIZE, two_depths
from steps import away_from_the_still, draft_of, go, press, settled, to_bench

from keen_horizon.core.geometry.mesh import Grid, MeshOverTime
from keen_horizon.core.mapping.drawn import drawn_bend
from keen_horizon.core.path.bending.bent import Bending
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.staged import staged

TABLES = """async ([drawn, places, size]) => {
  const { unpacked } = await import("/static/js/geometry/lens.js");
  const { meshAt, meshed, unmeshed } = await import("/static/js/geometry/mesh.js");
  const mesh = meshAt(unpacked({ first: 5, frames: 3, bend: drawn }), 6);
  return [places.map((place) => meshed(mesh, size, place)), places.map((place) => unmeshed(mesh, size, place))];
}"""


@pytest.fixture(scope="module")
def walked(media: Path) -> Path:
    """A film of a town behind ground that moves further, since it is nearer."""
    clip = media / "walked.mp4"
    frames = (cv2.cvtColor(frame, cv2.COLOR_GRAY2BGR) for frame, _ in staged(two_depths(), SIZE))
    write_pictures(frames, SIZE, RATE, clip, quality=12)
    return clip


def test_the_picture_is_bent_where_that_is_worth_while(page: Page, walked: Path) -> None:
    to_bench(page, walked)
    panel = page.locator("details.bending")
    expect(panel.locator("summary")).to_contain_text("near and far move apart")
    panel.locator("summary").click()
    offer = panel.get_by_text(re.compile(r"Bent by up to \d+ px"))
    told = re.search(r"apart by ([\d.]+) px a frame. Bent by up to (\d+) px, ([\d.]+) px", offer.inner_text())
    assert told
    assert float(told[3]) < 0.6 * float(told[1])
    go(page, 31)
    plain = away_from_the_still(page, 31)
    page.get_by_role("button", name="Bend the picture").click()
    settled(page)
    expect(panel).to_contain_text(f"apart by {told[3]} px a frame instead of {told[1]} px")
    assert draft_of(page)["motion"]["bend_limit_px"] == float(told[2])
    expect(page.locator(".ledger")).to_contain_text(re.compile(r"bent \d+\.\d px"))

    cells = page.locator("svg path.heat")
    drawn = [cells.nth(i).get_attribute("d") or "" for i in range(cells.count())]
    grid = Grid(SIZE)
    assert sum(d.count("M") for d in drawn) == grid.cells[0] * grid.cells[1]
    assert any(drawn[3:]), "somewhere it is bent by more than a quarter of the limit"
    page.get_by_role("button", name="Show the bend").click()
    assert not any(cells.nth(i).get_attribute("d") for i in range(cells.count()))

    bent = away_from_the_still(page, 31)
    print(f"viewer against the renderer's still: bent {bent:.2f} of 255, unbent {plain:.2f}")
    assert bent < plain + 0.4
    page.get_by_role("spinbutton", name="Bend by up to").fill("1")
    page.get_by_role("spinbutton", name="Bend by up to").press("Tab")
    expect(panel.locator("summary")).to_contain_text("by up to 1.0 px")
    expect(panel).not_to_contain_text(f"apart by {told[3]} px a frame instead")
    press(page, "Control+z")
    press(page, "Control+z")
    settled(page)
    assert draft_of(page)["motion"]["bend_limit_px"] == 0
    page.get_by_role("radio", name="Level").check()
    expect(panel).to_be_hidden()


def test_the_page_s_mesh_is_the_core_s(page: Page) -> None:
    random = np.random.default_rng(2)
    rows, columns = Grid(SIZE).shape
    controls = cv2.GaussianBlur(random.normal(0, 30, (rows, columns, 6)), (0, 0), 4).reshape(rows, columns, 3, 2)
    mesh = MeshOverTime(5, SIZE, np.moveaxis(controls, 2, 0).astype(np.float32))
    drawn = drawn_bend(Bending(mesh, np.zeros(2), np.zeros(2)))
    places = random.uniform((-0.5, -0.5), (SIZE.width - 0.5, SIZE.height - 0.5), (80, 2))
    page.goto("/about")
    size = {"width": SIZE.width, "height": SIZE.height}
    moved, back = page.evaluate(TABLES, [drawn, places.tolist(), size])
    assert np.abs(np.array(moved) - mesh.moved(6, places)).max() < 1e-3
    assert np.abs(np.array(back) - mesh.moved_back(6, places)).max() < 1e-2
