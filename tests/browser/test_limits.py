"""Seeing the price before paying: trade-off, pinch points, easing, keys, breathing zoom, trim, nudge."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from accessibility import violations
from playwright.sync_api import Page, expect
from services import wait_for
from steps import draft_of, frame_of, press, settled, to_bench, to_shared_bench, zoom_of

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.probe import probe

pytestmark = pytest.mark.browser

LISTENING = """() => {
  const fetched = window.fetch;
  const asked = (window.asked = { limits: [], now: 0, most: 0 });
  window.fetch = (address, options) => {
    const answer = fetched(address, options);
    if (!String(address).includes("/solve")) return answer;
    let open = true;
    const ended = () => { asked.now -= open; open = false; };
    asked.limits.push(JSON.parse(options.body).edges.zoom_limit);
    asked.most = Math.max(asked.most, ++asked.now);
    options.signal.addEventListener("abort", ended);
    answer.then(ended, ended);
    return answer;
  };
}"""
DRAGGING = """async (slider) => {
  const shown = new Set();
  const began = performance.now();
  for (let step = 1; step <= 20 || (shown.size < 6 && performance.now() - began < 30000); step++) {
    slider.value = 1.085 - 0.0005 * (step % 90);
    slider.dispatchEvent(new Event("input", { bubbles: true }));
    await new Promise((done) => setTimeout(done, 16));
    shown.add(document.querySelector(".ledger-total dd").innerText);
  }
  return shown.size;
}"""


def test_the_picture_follows_while_the_limit_is_dragged(page: Page, shaky) -> None:
    """One question at a time, however quickly it moves, and the last place is answered."""
    to_shared_bench(page, shaky[0])
    press(page, "3")
    settled(page)
    page.evaluate(LISTENING)
    slider = page.get_by_label("Zoom limit, drag")
    shown = slider.evaluate(DRAGGING)
    settled(page)
    asked = page.evaluate("window.asked")
    limits = asked["limits"]
    print(f"{len(limits)} questions, {shown} zooms shown on the way")
    assert asked["most"] == 1
    assert len(limits) > 3
    assert shown >= 4
    assert limits[-1] == pytest.approx(float(page.locator("#zoom-limit").input_value()), abs=1e-3)
    assert zoom_of(page) == pytest.approx(limits[-1], abs=6e-4)


def test_a_point_on_the_trade_off_is_chosen_by_hand_and_by_steadiness(page: Page, shaky) -> None:
    to_shared_bench(page, shaky[0])
    press(page, "3")
    chart = page.locator(".tradechart")
    expect(chart.locator("text").filter(has_text="zoom")).to_be_visible()
    expect(page.locator(".trade li").last).to_contain_text("all that these settings can do")
    assert violations(page) == []
    free = zoom_of(page)
    box = chart.bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.9, box["y"] + 60)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + 60, steps=4)
    page.mouse.up()
    expect(page.locator(".verdict").first).to_contain_text("The limit holds it to")
    limit = draft_of(page)["edges"]["zoom_limit"]
    assert 1.0 < limit < 1 + 0.55 * (free - 1)
    assert zoom_of(page) == pytest.approx(limit, abs=6e-4)
    expect(chart.locator("text.of-here")).to_contain_text(f"{limit:.3f}×")
    page.get_by_label("Shake may remain").fill("0.0001")
    page.get_by_role("button", name="Set the smallest zoom for it").click()
    expect(page.locator(".controls > .trouble")).to_contain_text("remains however much is zoomed")
    remaining = float(re.search(r"([\d.]+) % at", chart.locator("text.of-here").text_content())[1])  # type: ignore[index]
    page.get_by_label("Shake may remain").fill(f"{remaining * 0.8:.4f}")
    page.get_by_role("button", name="Set the smallest zoom for it").click()
    expect(page.locator(".controls > .trouble")).to_be_hidden()
    expect(page.locator(".ledger-total dd").first).not_to_have_text(f"{limit:.3f}×")
    assert zoom_of(page) > limit
    press(page, "Escape")
    page.locator(".controls h2:visible").click()
    press(page, "Control+z")
    assert draft_of(page)["edges"]["zoom_limit"] == limit


def test_the_worst_stretch_is_eased_and_the_easing_is_changed_on_the_strip(page: Page, shaky) -> None:
    to_shared_bench(page, shaky[0])
    press(page, "3")
    before = zoom_of(page)
    pinch = page.locator(".pinches li").first
    expect(pinch).to_contain_text(re.compile(r"without frames? [\d-]+ a zoom of 1\.\d+× would do"))
    pinch.get_by_role("button", name=re.compile("^frame")).click()
    expect(page.locator(".strip .eased")).to_have_count(0)
    pinch.get_by_role("button", name="ease here").click()
    expect(page.locator(".strip .eased")).to_have_count(1)
    expect(page.locator(".ledger-total dd").first).not_to_have_text(f"{before:.3f}×")
    assert zoom_of(page) < before
    ease = draft_of(page)["motion"]["ease"][0]
    top = page.locator(".strip .eased-top").bounding_box()
    page.mouse.move(top["x"] + top["width"] / 2, top["y"] + 1)
    page.mouse.down()
    page.mouse.move(top["x"] + top["width"] / 2, top["y"] + 41, steps=3)
    page.mouse.up()
    wait_for(lambda: draft_of(page)["motion"]["ease"][0]["amount"] != 1)
    changed = draft_of(page)["motion"]["ease"][0]
    assert changed["amount"] == pytest.approx(0.5, abs=0.05)
    assert (changed["frame"], changed["width"]) == (ease["frame"], ease["width"])
    page.get_by_label("Width in frames").fill("20")
    page.get_by_label("Width in frames").press("Enter")
    assert draft_of(page)["motion"]["ease"][0]["width"] == 20
    page.get_by_role("button", name=re.compile("remove the easing")).click()
    expect(page.locator(".strip .eased")).to_have_count(0)
    page.locator(".controls h2:visible").click()
    press(page, "Control+z")
    expect(page.locator(".strip .eased")).to_have_count(1)
    press(page, "e")
    expect(page.locator(".strip .eased")).to_have_count(2)
    assert draft_of(page)["motion"]["ease"][1]["frame"] == frame_of(page)


def test_strength_is_keyed_over_the_clip(page: Page, shaky) -> None:
    to_shared_bench(page, shaky[0])
    page.get_by_role("button", name="key the strength").click()
    for _ in range(4):
        press(page, "Shift+ArrowRight")
    expect(page.get_by_label("Time and frame")).to_contain_text("frame 40")
    page.get_by_role("spinbutton", name="Strength").fill("0.25")
    page.get_by_role("spinbutton", name="Strength").press("Enter")
    expect(page.locator(".strip .key")).to_have_count(2)
    keys = draft_of(page)["motion"]["keys"][0]["keys"]
    assert [(key["frame"], key["value"]) for key in keys] == [(0, 1.0), (40, 0.25)]
    page.locator(".controls h2:visible").click()
    press(page, "Shift+ArrowLeft")
    press(page, "Shift+ArrowLeft")
    expect(page.get_by_label("Time and frame")).to_contain_text("frame 20")
    between = float(page.get_by_role("spinbutton", name="Strength").input_value())
    assert 0.26 < between < 0.99
    page.get_by_role("button", name=re.compile("^Reset strength")).click()
    expect(page.locator(".strip .key")).to_have_count(0)


def test_trim_breathing_and_nudge_show_their_price(page: Page, shaky: tuple[Path, Similarities], tmp_path) -> None:
    to_bench(page, shaky[0])
    press(page, "3")
    page.get_by_role("radio", name=re.compile("Breathing")).check()
    expect(page.locator(".verdict").first).to_contain_text("in the mean")
    page.get_by_role("radio", name=re.compile("Trim")).check()
    expect(page.get_by_text(re.compile(r"The picture becomes \d+×\d+"))).to_be_visible()
    page.get_by_text("Move the window by hand").click()
    page.get_by_role("spinbutton", name="Right").fill("60")
    page.get_by_role("spinbutton", name="Right").press("Enter")
    expect(page.get_by_text(re.compile(r"frames have a gap, from frame \d+ to \d+"))).to_be_visible()
    page.get_by_role("button", name=re.compile("^Reset right")).click()
    expect(page.get_by_text("frames have a gap")).to_be_hidden()
    words = page.get_by_text("The picture becomes").inner_text()
    width, height = (int(side) for side in re.search(r"(\d+)×(\d+)", words).groups())  # type: ignore[union-attr]
    press(page, "4")
    page.get_by_role("button", name="Render").click()
    link = page.get_by_role("link", name=re.compile("Download file"))
    expect(link).to_be_visible(timeout=60_000)
    (tmp_path / "r.mp4").write_bytes(page.request.get(link.get_attribute("href")).body())
    info, _ = probe(tmp_path / "r.mp4")
    assert (info.coded.width, info.coded.height) == (width, height)
    assert 500 < width < 640
