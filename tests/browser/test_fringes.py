"""Coloured edges on the bench: measured, laid together, drawn as they are rendered, set by hand, kept."""

from __future__ import annotations

import re
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect
from steps import away_from_the_still, canvas_of, draft_of, go, press, settled, to_bench, to_shared_bench
from truth import SMALL

from keen_horizon.core.finding.colour_edges import Blocks, ColourEdges, Where
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import fringed
from keen_horizon.simulator.plane import jitter, shaken_pictures

GLASS = Fringe((0.005, 0.0), (-0.005, 0.0))  # 1.8 px at a corner of SMALL


@pytest.fixture(scope="module")
def edged(media: Path) -> Path:
    """The town by a hand that shakes, behind glass that parts its colours."""
    clip = media / "edged.mp4"
    sharp = shaken_pictures(jitter(40, SMALL, 10.0, seed=4), SMALL, noise=0.5)
    pictures = (cv2.GaussianBlur(picture, (0, 0), 0.8) for picture in sharp)
    write_pictures(fringed(pictures, SMALL, GLASS), SMALL, 30, clip, quality=8)
    return clip


def outwards(picture: np.ndarray) -> tuple[float, float]:
    """How far red and blue lie outwards of green at edges far from the middle, thousandths of the radius, in median."""
    colours = np.moveaxis(picture[..., ::-1], -1, 0).astype(np.float32) / 255
    edges = ColourEdges(0, colours, ((colours > 0.01) & (colours < 0.99)).all(0))
    nowhere = Where(edges.places, np.zeros_like(edges.places), np.zeros(len(edges.places), np.intp))
    red, blue = edges.shifts(nowhere, Fringe())
    return outward(red), outward(blue)


def outward(blocks: Blocks) -> float:
    radius = np.abs(blocks.where.places)
    sure = np.trace(blocks.known, axis1=1, axis2=2)
    kept = (radius > 0.5) & (sure > np.median(sure))
    return float(1000 * np.median((blocks.shift / blocks.where.places).real[kept]))


def moved_by_the_glass(was: tuple[float, float], now: tuple[float, float]) -> bool:
    """Whether both colours went by the glass's five thousandths, whatever the scene's and the proxy's own."""
    return abs(was[0] - now[0] - 5) < 1.2 and abs(now[1] - was[1] - 5) < 1.2


def typed(page: Page, name: str, text: str) -> None:
    field = page.get_by_role("spinbutton", name=name, exact=True)
    field.fill(text)
    field.press("Tab")


def test_they_are_measured_and_the_edges_clear(page: Page, edged: Path) -> None:
    to_shared_bench(page, edged)
    go(page, 20, "optics")
    before, usual = canvas_of(page), away_from_the_still(page, 20)
    page.get_by_role("button", name="Measure the fringes").click()
    expect(page.locator(".fringes")).to_contain_text(re.compile(r"Measured outwards at the corners: red \+1\.[5-9]"))
    settled(page)
    if draft_of(page)["optics"]["fringe"] is None:  # too doubtful to be taken unasked
        page.locator(".fringes").get_by_role("button", name="Take what was measured").click()
    expect(page.get_by_role("status", name="Coloured edges")).to_contain_text(
        re.compile(r"red −1\.\d\d, blue \+1\.\d\d px")
    )
    told = draft_of(page)["optics"]["fringe"]
    for colour, true in (("red", GLASS.red), ("blue", GLASS.blue)):
        assert abs(sum(told[colour]) - sum(true)) * SMALL.half_diagonal < 0.2
    was, now = outwards(before), outwards(canvas_of(page))
    print(f"outwards by {was} thousandths, then by {now}")
    assert moved_by_the_glass(was, now)
    apart = away_from_the_still(page, 20)
    print(f"viewer against the renderer's still: {apart:.2f} of 255, as shot {usual:.2f}")
    assert apart < usual + 0.8
    crosses = page.locator(".fringe-plot path.red.marks").get_attribute("d") or ""
    assert crosses.count("M") > 50

    after = canvas_of(page)
    page.get_by_role("button", name="Show edges only").click()
    settled(page)
    edges = canvas_of(page)
    assert edges.mean() < 0.5 * after.mean()
    press(page, "Control+z")
    settled(page)
    assert np.abs(canvas_of(page).astype(int) - edges).mean() > 2  # beside the edges their colours come back
    page.get_by_role("button", name="Show edges only").click()
    settled(page)
    assert np.abs(canvas_of(page).astype(int) - before).mean() < 0.5


def test_they_are_set_by_hand_kept_and_given_on(page: Page, edged: Path, shaky: tuple[Path, Similarities]) -> None:
    """Before anything is measured, too."""
    to_bench(page, edged, measured=False)
    go(page, 20, "optics")
    was = outwards(canvas_of(page))
    page.locator(".fringes summary").click()
    typed(page, "red, evenly outwards", "1.84")
    typed(page, "blue, evenly outwards", "-1.84")
    expect(page.get_by_role("status", name="Coloured edges")).to_have_text("red −1.84, blue +1.84 px")
    settled(page)
    assert moved_by_the_glass(was, outwards(canvas_of(page)))
    assert draft_of(page)["optics"]["fringe"]["red"] == pytest.approx([0.005, 0], abs=2e-5)
    with_haze = away_from_the_still(page, 20)
    typed(page, "haze along bright edges, less by", "100")
    typed(page, "hues that count as haze", "180")
    expect(page.get_by_role("status", name="Coloured edges")).to_have_text("red −1.84, blue +1.84 px, less haze")
    apart = away_from_the_still(page, 20)
    print(f"viewer against the renderer's still: {apart:.2f} of 255, {with_haze:.2f} with the haze")
    assert apart < with_haze + 0.5
    assert draft_of(page)["optics"]["fringe"]["haze"] == {"amount": 1.0, "hue_deg": 290.0, "width_deg": 180.0}
    page.get_by_label("Name for this lens").fill("Long glass with coloured edges")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_text("Kept as “Long glass with coloured edges”.")).to_be_visible()
    page.get_by_role("button", name="Leave the colours as shot").click()
    assert draft_of(page)["optics"]["fringe"] is None

    page.goto("/")
    to_bench(page, shaky[0], measured=False)
    go(page, 0, "optics")
    profiles = page.get_by_label("Lens profile")
    mine = profiles.locator("option", has_text="Long glass with coloured edges").get_attribute("value")
    profiles.select_option(mine)
    expect(page.get_by_role("status", name="Coloured edges")).to_have_text(re.compile(r"red −\d"))
    assert draft_of(page)["optics"]["fringe"]["blue"] == pytest.approx([-0.005, 0], abs=2e-5)
