"""Refresh docs/screenshots from the running application with its demo project.

bin/start          in one terminal
.venv/bin/python scripts/screenshots.py
"""

from __future__ import annotations

import shutil
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

INTO = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
FLAGS = ["--headless", "--no-sandbox", "--disable-quic", "--no-first-run", "--enable-unsafe-swiftshader"]
STRAIGHTEDGES = (
    ((0.015, 0.5755), (0.1143, 0.5595), (0.3222, 0.5262), (0.6351, 0.4764), (0.8431, 0.4436), (0.9424, 0.4281)),
    ((0.0161, 0.6062), (0.1607, 0.595), (0.4121, 0.5636), (0.6628, 0.52), (0.8065, 0.4895)),
)  # shares of the picture
FRONT = ((0.275, 0.3), (0.345, 0.3), (0.345, 0.47), (0.275, 0.47))
HOME = "http://127.0.0.1:8460/"


SETTLED = """() => {
  const bench = document.querySelector(".bench");
  const { ready, asking } = document.documentElement.dataset;
  const answered = ready !== "no" && Number(asking || 0) === 0 && (!bench || bench.dataset.kept !== "no");
  return answered && [...document.images].every((image) => image.complete);
}"""


def shoot(page: Page, name: str) -> None:
    page.wait_for_timeout(1000)
    page.wait_for_function(SETTLED)
    page.wait_for_timeout(1000)
    page.screenshot(path=str(INTO / f"{name}.png"))


def to_bench(page: Page, clip: str) -> None:
    page.goto(HOME)
    page.get_by_role("link", name=clip, exact=True).click()
    expect(page.locator(".bench")).to_be_visible()
    page.wait_for_timeout(1500)
    if page.get_by_role("button", name="Measure motion").is_visible():
        page.get_by_role("button", name="Measure motion").click()
    expect(page.locator(".outcome tbody tr")).to_have_count(5)


def look_out_of_the_sphere(page: Page) -> None:
    """The view from the mast, half a second before its last key."""
    page.goto(HOME)
    page.get_by_role("link", name="mast_05.mp4", exact=True).click()
    expect(page.get_by_text("shake left")).to_be_visible()
    page.goto(f"{page.url.split('?')[0]}?stage=view&frame=135")
    expect(page.get_by_text("shake left")).to_be_visible()
    shoot(page, "sphere")


def click_on_picture(page: Page, places: tuple[tuple[float, float], ...]) -> None:
    """Click places given as shares of the picture."""
    box = page.locator(".viewer canvas").bounding_box()
    for x, y in places:
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
        page.wait_for_timeout(400)


def show_the_lean(page: Page) -> None:
    """Upright lines as the rows of one of the drone's frames saw them."""
    page.goto(page.url.partition("?")[0] + "?stage=motion&frame=214")
    page.get_by_role("button", name="Show the lean").click()
    page.get_by_role("button", name="before", exact=True).click()
    shoot(page, "rolling_shutter")
    page.get_by_role("button", name="after", exact=True).click()


def show_the_bend(page: Page) -> None:
    """The mesh that lays the roofs to rest, and how far each place is bent."""
    page.goto(page.url.partition("?")[0] + "?stage=motion&frame=180")
    bending = page.locator("details.bending")
    expect(bending.locator("summary")).to_contain_text("near and far move apart")
    bending.locator("summary").click()
    page.get_by_role("button", name="Bend the picture").click()
    expect(bending).to_contain_text("Lengths change by at most")
    page.locator(".heat-legend").scroll_into_view_if_needed()
    shoot(page, "bending")
    page.get_by_role("button", name="Reset bend by up to to 0 px").click()


def show_the_points(page: Page) -> None:
    """What is believed of the quay, behind the boats and the lamp that pass."""
    page.goto(page.url.partition("?")[0] + "?stage=motion&frame=150")
    expect(page.locator("details.believing summary")).to_contain_text("Sure to")
    page.locator("details.believing summary").click()
    page.get_by_role("button", name="Show the points").click()
    page.locator("details.believing").scroll_into_view_if_needed()
    page.wait_for_timeout(1500)
    shoot(page, "believed")
    page.get_by_role("button", name="Show the points").click()


def draw_straightedges(page: Page) -> None:
    """Along the top and the foot of the quay, in the first frame of the dinghy clip."""
    page.keyboard.press("1")
    page.get_by_role("button", name="before", exact=True).click()
    while page.get_by_role("button", name="remove line 1", exact=True).count():
        page.get_by_role("button", name="remove line 1", exact=True).click()
        page.wait_for_timeout(400)
    open_group(page, "Bent lines")
    page.get_by_role("button", name="Draw straightedges").click()
    for line in STRAIGHTEDGES:
        click_on_picture(page, line)
        page.get_by_role("button", name="Next line").click()
    expect(page.locator("[data-stage=optics]")).to_contain_text("keeps")
    shoot(page, "optics")
    page.get_by_role("button", name="Done drawing").click()
    page.get_by_role("button", name="after", exact=True).click()


def hold_behind_the_lens(page: Page) -> None:
    """The rocking dinghy held, by turning the camera behind the lens that was drawn."""
    page.keyboard.press("2")
    page.get_by_role("radio", name="Hold").check()
    shoot(page, "wide")
    page.get_by_role("radio", name="Glide").check()
    page.keyboard.press("1")


def follow_a_front(page: Page) -> None:
    """A house front of the quay, followed, with a chequered picture laid on it."""
    page.get_by_text("For tracking and 3-D").click()
    while page.get_by_role("button", name="remove the corners").count():
        page.get_by_role("button", name="remove the corners").first.click()
        page.wait_for_timeout(400)
    page.get_by_role("button", name="Set four corners on this frame").click()
    click_on_picture(page, FRONT)
    page.get_by_label("lay a chequered picture on it").check()
    page.get_by_role("button", name="corners CSV").scroll_into_view_if_needed()
    shoot(page, "flat")
    page.get_by_text("For tracking and 3-D").click()


def show_the_scope(page: Page) -> None:
    """Luma from the middle out, beside the picture with its corners to be lifted."""
    page.keyboard.press("1")
    page.keyboard.press("s")
    page.get_by_label("Which scope").select_option("from the middle out")
    open_group(page, "Dark corners")
    page.get_by_role("button", name="Measure the dark corners").scroll_into_view_if_needed()
    shoot(page, "scope")
    page.keyboard.press("s")


def show_dark_corners(page: Page) -> None:
    """The lighthouse, its dead corners veiled before, hidden and lifted after."""
    page.keyboard.press("1")
    page.get_by_role("button", name="wipe", exact=True).click()
    shoot(page, "dark_corners")


def show_the_edges(page: Page) -> None:
    """Edges only, with red and blue moved aside by hand, before and after."""
    open_group(page, "Coloured edges")
    page.locator(".fringes summary").click()
    page.get_by_role("spinbutton", name="red, evenly outwards", exact=True).fill("1.5")
    page.get_by_role("spinbutton", name="red, evenly outwards", exact=True).press("Tab")
    page.get_by_role("button", name="Show edges only").click()
    page.get_by_role("button", name="wipe", exact=True).click()
    page.locator(".fringe-plot").scroll_into_view_if_needed()
    shoot(page, "coloured_edges")
    page.get_by_role("button", name="Show edges only").click()
    page.get_by_role("button", name="Leave the colours as shot").click()


def open_group(page: Page, title: str) -> None:
    """Open one of what may be wrong with a picture."""
    group = page.locator(".wrong").filter(has=page.get_by_role("status", name=title))
    if group.get_attribute("open") is None:
        group.locator("summary").first.click()


def main() -> None:
    expect.set_options(timeout=120_000)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(HOME)
        expect(page.get_by_role("link", name="dinghy_03.mp4", exact=True)).to_be_visible()
        look_out_of_the_sphere(page)
        to_bench(page, "lighthouse_04.mp4")
        show_dark_corners(page)
        to_bench(page, "roofs_drone_02.mp4")
        show_the_lean(page)
        show_the_bend(page)
        to_bench(page, "dinghy_03.mp4")
        draw_straightedges(page)
        hold_behind_the_lens(page)
        to_bench(page, "quay_walk_01.mp4")
        page.keyboard.press("w")
        shoot(page, "bench")
        show_the_points(page)
        page.reload()
        expect(page.locator(".outcome tbody tr")).to_have_count(5)
        page.keyboard.press("w")
        show_the_scope(page)
        show_the_edges(page)
        page.keyboard.press("3")
        page.get_by_role("button", name="wipe", exact=True).click()
        shoot(page, "edges")
        page.get_by_role("button", name="after", exact=True).click()
        page.get_by_role("radio", name="Borrow").check()
        page.get_by_role("button", name="mark borrowed").click()
        expect(page.locator("canvas[data-lent=exact]")).to_be_visible()
        shoot(page, "borrow")
        page.get_by_role("button", name="mark borrowed").click()
        page.get_by_role("radio", name="Fill").first.check()
        page.keyboard.press("2")
        page.get_by_role("radio", name="Hold").check()
        page.wait_for_timeout(800)
        page.get_by_role("radio", name="Glide").check()
        page.keyboard.press("4")
        page.get_by_role("button", name="side by side").click()
        if not page.get_by_role("link", name="Download file").count():
            page.get_by_role("button", name="Render").click()
        expect(page.get_by_role("link", name="Download file")).to_be_visible()
        page.get_by_role("button", name="save new").click()
        shoot(page, "output")
        page.get_by_role("button", name="after", exact=True).click()
        follow_a_front(page)
        page.get_by_text("Data of these settings").click()
        page.get_by_role("link", name="report to print").click()
        page.wait_for_timeout(2500)
        shoot(page, "report")
        page.get_by_role("link", name="jobs").click()
        shoot(page, "jobs")
        page.get_by_role("link", name="lens profiles").click()
        page.get_by_role("button", name="open Action camera, 150°").click()
        shoot(page, "lenses")
        page.goto(HOME)
        shoot(page, "shelf")
        browser.close()


if __name__ == "__main__":
    main()
