"""The rolling shutter on the bench: told, undone, drawn as it is rendered, set by hand, and seen."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from glass import random_lens
from playwright.sync_api import Page, expect
from steps import away_from_the_still, draft_of, go, press, settled, to_shared_bench

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.shutter import NODES, RowMotion
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.perspective import turned_camera
from keen_horizon.core.lens.stage import View, lens_stage
from keen_horizon.core.mapping.drawn import drawn_optics
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.plane import hand_shake, read_row_by_row

SIZE = Size(640, 360)

TABLES = """async ([drawn, places, size]) => {
  const { bent, lensAt, straightened, unpacked } = await import("/static/js/geometry/lens.js");
  const lens = lensAt(unpacked({ first: 0, frames: 3, lens: drawn }), 1);
  return [places.map(([x, y]) => bent(lens, size, x, y)), places.map(([x, y]) => straightened(lens, size, x, y))];
}"""


@pytest.fixture(scope="module")
def rolled(media: Path) -> Path:
    """A hand's film whose rows are read over 0.7 of a frame."""
    clip = media / "rolled.mp4"
    motion = hand_shake(60, SIZE, 8.0, 11, vibration_px=1.5)
    write_pictures(read_row_by_row(motion, 60, SIZE, 0.7, 1.0, 11), SIZE, 25, clip, quality=12)
    return clip


def test_it_is_told_undone_drawn_as_it_is_rendered_and_kept(page: Page, rolled: Path) -> None:
    to_shared_bench(page, rolled)
    panel = page.locator(".shutter")
    expect(panel).to_contain_text(re.compile(r"Measured: 0\.(69|70|71) of a frame, the first row first"))
    expect(page.locator(".outcome").first).to_contain_text("The rolling shutter is undone")
    page.get_by_role("radio", name="Hold").check()
    go(page, 31)
    apart = away_from_the_still(page, 31)
    page.get_by_role("radio", name="off", exact=True).check()
    expect(page.locator(".outcome").first).not_to_contain_text("undone")
    settled(page)
    without = away_from_the_still(page, 31)
    print(f"viewer against the renderer's still: {apart:.2f} of 255, without rows {without:.2f}")
    assert apart < without + 0.5
    assert apart < 4

    page.get_by_role("radio", name="by hand").check()
    expect(page.get_by_role("spinbutton", name="Readout")).to_have_value(re.compile(r"0\.(69|70|71)"))
    page.get_by_role("spinbutton", name="Readout").fill("-0.4")
    page.get_by_role("spinbutton", name="Readout").press("Tab")
    expect(page.locator(".outcome").first).to_contain_text("0.40 of a frame, the last row first, set by hand")
    assert draft_of(page)["motion"]["rolling_shutter"] == -0.4
    press(page, "1")
    page.get_by_label("Name for this lens").fill("Shaken camera")
    page.get_by_role("button", name="Keep", exact=True).last.click()
    expect(page.get_by_text("Kept as “Shaken camera”.")).to_be_visible()
    press(page, "2")
    press(page, "Control+z")
    press(page, "Control+z")
    expect(page.get_by_role("radio", name="off", exact=True)).to_be_checked()
    press(page, "1")
    page.get_by_label("Lens profile").select_option(label="Shaken camera")
    given = draft_of(page)
    assert given["motion"]["rolling_shutter"] == pytest.approx(-0.4, abs=1e-4)
    assert given["optics"]["lens"] is None
    page.get_by_role("link", name="lens profiles").click()
    expect(page.locator(".profiles")).to_contain_text("rows read in 16.0 ms")
    page.get_by_role("button", name="forget Shaken camera").click()
    expect(page.get_by_role("button", name="open Shaken camera")).to_have_count(0)


def test_the_lean_is_seen_before_and_gone_after(page: Page, rolled: Path) -> None:
    to_shared_bench(page, rolled)
    go(page, 31)
    page.get_by_role("button", name="Show the lean").click()
    spread = {}
    for view in ("before", "after"):
        page.get_by_role("button", name=view, exact=True).click()
        settled(page)
        drawn = page.locator("svg path.edges").first.get_attribute("d") or ""
        poles = [np.array(re.findall(r"-?[\d.]+", pole), float).reshape(-1, 2) for pole in drawn.split("M")[1:]]
        assert len(poles) == 5
        spread[view] = max(np.ptp(pole[:, 0]) for pole in poles)
    assert spread["before"] > 10
    assert spread["after"] < spread["before"] / 2


def any_view(random: np.random.Generator, projection: str) -> View:
    """A camera turned by some degrees, delivered in a projection."""
    focal = random.uniform(0.6, 1.2)
    plane = turned_camera(*random.normal(0, 4, 3), focal)
    return View(tuple(plane.ravel().tolist()), projection, focal)


@pytest.mark.parametrize("projection", ["straight", "cylinder", "stereographic"])
@pytest.mark.parametrize("seed", range(4))
def test_the_page_s_tables_are_the_core_s_lens_projection_and_rows(page: Page, seed: int, projection: str) -> None:
    random = np.random.default_rng([seed, len(projection)])
    rows = RowMotion(random.normal(0, 4, (3, NODES, 6)), SIZE, seed % 4, np.array([1.0, 0.8, 1.0]))
    lens = random_lens(random)
    if lens.family == "polynomial":
        lens = replace(lens, p1=0.01, p2=-0.006, squeeze=1.1)
    stage = OpticsStage(0, (lens_stage(lens, SIZE, 0.0, any_view(random, projection)),), rows if seed % 3 else None)
    places = random.uniform((0, 0), (SIZE.width, SIZE.height), (80, 2))
    page.goto("/about")
    size = {"width": SIZE.width, "height": SIZE.height}
    bent, straight = page.evaluate(TABLES, [drawn_optics(stage), places.tolist(), size])
    there = stage.points(1, places)
    told = np.abs(there).max(1) < 3000
    assert told.mean() > 0.8
    assert np.abs(np.array(bent) - there)[told].max() < 0.02
    wanted = stage.straighten(1, places)
    seen = np.abs(wanted).max(1) < 3000
    assert np.abs(np.array(straight) - wanted)[seen].max() < 0.1
