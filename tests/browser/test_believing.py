"""What the measurement believes, on the bench: points, what moves, areas that follow it, and steadying it instead."""

from __future__ import annotations

import re
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect
from staging import RATE, SIZE, outline, overlap, passing
from steps import draft_of, go, press, settled, to_bench

from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.staged import staged

COUNT, MIDDLE = 80, 40


@pytest.fixture(scope="module")
def walked_past(media: Path) -> Path:
    """A film of a town that a large cloth passes in front of."""
    clip = media / "walked_past.mp4"
    frames = (cv2.cvtColor(frame, cv2.COLOR_GRAY2BGR) for frame, _ in staged(passing(COUNT), SIZE))
    write_pictures(frames, SIZE, RATE, clip, quality=12)
    return clip


def open_belief(page: Page) -> None:
    summary = page.locator("details.believing summary")
    expect(summary).to_contain_text(re.compile(r"Sure to \d+ %"))
    settled(page)
    summary.click()


def after_shake(page: Page) -> str:
    settled(page)
    return page.locator(".outcome tbody tr").first.locator("td").last.inner_text()


def test_points_a_suggestion_an_area_and_another_layer(page: Page, walked_past: Path) -> None:
    to_bench(page, walked_past)
    go(page, MIDDLE)
    open_belief(page)
    page.get_by_role("button", name="Show the points").click()
    counts = page.locator(".believing").get_by_text(re.compile(r"\d+ stand still, \d+ move by themselves"))
    expect(counts).to_be_visible()
    still, moving = (int(n) for n in re.findall(r"\d+", counts.inner_text())[:2])
    assert still > 60
    assert moving > 30
    drawn = page.locator("svg path.believed").get_attribute("d") or ""
    assert drawn.count("M") == still

    box = page.locator(".viewer canvas").bounding_box()
    assert box is not None
    page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.6)
    expect(page.locator(".believing")).to_contain_text(re.compile(r"seen since frame \d+|No point there"))

    glide = after_shake(page)
    page.get_by_role("button", name=re.compile("^steady what moves")).first.click()
    expect(page.locator(".believing")).to_contain_text(re.compile(r"on frame \d+ stands still"))
    assert after_shake(page) != ""
    expect(counts).not_to_contain_text(f"{still} stand still")
    page.get_by_role("button", name="as measured").click()
    expect(counts).to_contain_text(f"{still} stand still")
    assert after_shake(page) == glide

    page.get_by_role("button", name=re.compile("^ignore what moves")).first.click()
    expect(page.get_by_role("textbox", name="Name of area 1")).to_have_value("Subject 1")
    expect(counts).to_contain_text("ignored")
    assert len(draft_of(page)["motion"]["ignore"][0]["keys"]) > 3
    suggested = page.get_by_role("button", name=re.compile("^ignore what moves"))
    expect(suggested).to_have_count(0)
    press(page, "Control+z")
    expect(page.get_by_role("textbox", name="Name of area 1")).to_have_count(0)
    expect(suggested).to_have_count(1)
    page.get_by_role("button", name=re.compile("^dismiss frames")).click()
    expect(suggested).to_have_count(0)
    page.reload()
    open_belief(page)
    expect(page.locator(".finer")).to_be_visible()
    expect(suggested).to_have_count(0)


def test_a_drawn_area_follows_what_is_in_it(page: Page, walked_past: Path) -> None:
    to_bench(page, walked_past)
    go(page, MIDDLE)
    open_belief(page)
    page.get_by_role("button", name="before", exact=True).click()
    page.get_by_role("button", name="Ignore an area").click()
    box = page.locator(".viewer canvas").bounding_box()
    assert box is not None
    thing = passing(COUNT)[1]
    places = [
        (box["x"] + (x + 0.5) / SIZE.width * box["width"], box["y"] + (y + 0.5) / SIZE.height * box["height"])
        for x, y in outline(thing, MIDDLE)
        if 0 <= y < SIZE.height - 2
    ]
    page.mouse.move(*places[0])
    page.mouse.down()
    for x, y in [*places[1:], places[0]]:
        page.mouse.move(x, y, steps=3)
    page.mouse.up()
    settled(page)
    area = draft_of(page)["motion"]["ignore"][0]
    assert area["follows"]
    before = page.locator("svg path.areas").get_attribute("d")
    for _ in range(12):
        press(page, "ArrowRight")
    expect(page.get_by_label("Time and frame")).to_contain_text(f"frame {MIDDLE + 12}")
    expect(page.locator("svg path.areas")).not_to_have_attribute("d", before or "")
    settled(page)
    drawn = re.findall(r"-?[\d.]+ -?[\d.]+", page.locator("svg path.areas").get_attribute("d") or "")
    polygon = [[float(value) for value in place.split()] for place in drawn]
    true = outline(thing, MIDDLE + 12)
    assert overlap(np.array(polygon), np.clip(true, [0, 0], [SIZE.width, SIZE.height - 2])) > 0.85
    page.get_by_role("checkbox", name="only this counts").check()
    settled(page)
    assert draft_of(page)["motion"]["ignore"][0]["only"]
    page.get_by_role("button", name="remove Area 1").click()
    settled(page)
    assert draft_of(page)["motion"]["ignore"] == []


def test_it_is_measured_finer_on_wish(page: Page, walked_past: Path) -> None:
    to_bench(page, walked_past)
    open_belief(page)
    finer = page.locator(".finer")
    expect(finer).to_contain_text(re.compile(r"Three times the points, in larger pictures: .*; about \d+ (s|min)\."))
    page.get_by_role("button", name="Show the points").click()
    counts = page.locator(".believing").get_by_text(re.compile(r"\d+ stand still, \d+ move by themselves"))
    usual = int(re.findall(r"\d+", counts.inner_text())[0])
    finer.get_by_role("button", name="Measure finer").click()
    expect(finer).to_contain_text("Measured finer")
    expect(finer.get_by_role("button", name="Measure finer")).to_be_hidden()
    settled(page)
    expect(page.locator("details.believing summary")).to_contain_text(re.compile(r"Sure to \d+ %"))
    # The counts are away while the new points are fetched.
    page.wait_for_function(
        r"usual => Number(/(\d+) stand still/.exec(document.querySelector('.believing').innerText)?.[1]) > 1.3 * usual",
        arg=usual,
    )
