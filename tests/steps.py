"""Steps that the journeys through the interface share."""

from __future__ import annotations

import base64
import re
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import Page, expect


def start_project(page: Page, measures: bool = False) -> None:
    """An empty project; whether its clips are measured as they arrive."""
    page.goto("/")
    expect(page.locator("#project-name, .shelf").first).to_be_visible()
    before = page.url
    if page.locator("#project-name").count():
        page.get_by_label("Name", exact=True).fill("Harbour film")
        page.get_by_role("button", name="Start").click()
    else:
        page.get_by_text("Projects", exact=True).click()
        page.get_by_label("Name of a new project").fill("Harbour film")
        page.get_by_label("Name of a new project").press("Enter")
    page.wait_for_url(lambda address: address != before)
    expect(page.get_by_role("heading", name="The shelf is empty")).to_be_visible()
    if not measures:
        page.get_by_role("checkbox", name="measure on arrival").uncheck()
        settled(page)  # a page that is left at once takes what it was saying along


def bring_in(page: Page, clip: Path) -> None:
    page.set_input_files("input[type=file]", clip)
    expect(page.get_by_role("link", name=clip.name, exact=True)).to_be_visible()


def to_bench(page: Page, clip: Path, measured: bool = True) -> None:
    start_project(page)
    bring_in(page, clip)
    open_bench(page, clip.name)
    if measured:
        page.get_by_role("button", name="Measure motion").click()
        expect(page.locator(".outcome tbody tr")).to_have_count(5)


def open_bench(page: Page, name: str) -> None:
    """From the shelf to the bench of a clip, until it is ready."""
    page.get_by_role("link", name=name, exact=True).click()
    expect(page.locator(".bench")).to_be_visible()
    settled(page)


_SHARED: dict[tuple[str, Path, bool], str] = {}


def to_shared_bench(page: Page, clip: Path, measured: bool = True) -> None:
    """The bench of a clip that journeys share, its settings as new: for those that keep nothing there."""
    page.goto("/about")
    which = page.url.removesuffix("/about"), clip, measured
    if which not in _SHARED:
        to_bench(page, clip, measured)
        _SHARED[which] = re.search(r"/clips/\d+", page.url)[0]  # type: ignore[index]
        return
    address = _SHARED[which]
    page.evaluate(
        """address => fetch(address, {
          method: "PUT", body: "{}",
          headers: {
            "Content-Type": "application/json",
            "X-CSRFToken": document.querySelector('meta[name="csrf-token"]').content,
          },
        })""",
        f"/api{address}/draft",
    )
    page.goto(address)
    settled(page)
    if measured:
        expect(page.locator(".outcome tbody tr")).to_have_count(5)


def press(page: Page, key: str) -> None:
    """Press a key once the page says that it listens: it takes none for granted before."""
    page.wait_for_selector("html[data-ready=yes]", state="attached")
    page.keyboard.press(key)


def frame_of(page: Page) -> int:
    return int(re.search(r"frame (\d+)", page.get_by_label("Time and frame").inner_text())[1])  # type: ignore[index]


def settled(page: Page) -> None:
    """Waits until the page awaits no answer, the server has its newest settings, and what follows is drawn."""
    page.wait_for_function(
        """() => {
          const bench = document.querySelector(".bench");
          if (!document.documentElement) return false; // between two pages there is none
          const { ready, asking } = document.documentElement.dataset;
          return ready === "yes" && Number(asking || 0) === 0 && (!bench || bench.dataset.kept !== "no");
        }"""
    )
    page.evaluate("new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(null))))")


def zoom_of(page: Page) -> float:
    settled(page)
    return float(page.locator(".ledger-total dd").first.inner_text().rstrip("×"))


def canvas_of(page: Page) -> np.ndarray:
    """The viewer's picture, BGR."""
    settled(page)
    data = page.evaluate("document.querySelector('canvas').toDataURL()").split(",")[1]
    return cv2.imdecode(np.frombuffer(base64.b64decode(data), np.uint8), cv2.IMREAD_COLOR)


STAGES = {"optics": "1", "motion": "2", "edges": "3", "output": "4"}


def go(page: Page, frame: int, stage: str = "motion") -> None:
    """To a frame and a stage, by the keys that step and choose."""
    settled(page)
    page.evaluate("document.activeElement.blur()")
    press(page, STAGES[stage])
    tens, ones = divmod(abs(frame - frame_of(page)), 10)
    way = "ArrowRight" if frame > frame_of(page) else "ArrowLeft"
    for key in [f"Shift+{way}"] * tens + [way] * ones:
        press(page, key)
    expect(page.get_by_label("Time and frame")).to_contain_text(f"frame {frame}")
    settled(page)
    if stage == "optics":
        open_groups(page)


def to_optics(page: Page) -> None:
    """The stage Optics, with all that may be wrong with a picture open."""
    press(page, "1")
    open_groups(page)


def open_groups(page: Page) -> None:
    """Open what of Optics is closed."""
    for group in page.locator(".wrong").all():
        if group.get_attribute("open") is None:
            group.locator("summary").first.click()


def draft_of(page: Page) -> dict:
    """The treatment as the server keeps it, once it has the newest."""
    settled(page)
    return page.request.get(f"/api{re.search(r'/clips/[0-9]+', page.url)[0]}").json()["draft"]  # type: ignore[index]


def away_from_the_still(page: Page, frame: int) -> float:
    """How far the viewer is from the renderer's own still, of 255."""
    shown, still = shown_and_still(page, frame)
    return float(np.abs(shown.astype(int) - still.astype(int)).mean())


def shown_and_still(page: Page, frame: int) -> tuple[np.ndarray, np.ndarray]:
    """What the viewer shows, and the renderer's own still at the viewer's size, BGR."""
    live = canvas_of(page)
    exact = asked(page, "stills", {"frame": frame, "treatment": draft_of(page)})
    still = cv2.imdecode(np.frombuffer(exact, np.uint8), cv2.IMREAD_COLOR)
    return live, cv2.resize(still, (live.shape[1], live.shape[0]), interpolation=cv2.INTER_AREA)


def saved(page: Page, button: str) -> Path:
    """What the browser saves when a button is clicked."""
    with page.expect_download() as waiting:
        page.get_by_role("button", name=button, exact=True).first.click()
    return waiting.value.path()


def asked(page: Page, what: str, document: dict) -> bytes:
    """A file that the server makes of a document, for the clip on the bench."""
    address = f"/api{re.search(r'/clips/[0-9]+', page.url)[0]}/{what}"  # type: ignore[index]
    token = page.locator('meta[name="csrf-token"]').get_attribute("content")
    return page.request.post(address, data=document, headers={"X-CSRFToken": token}).body()


def drag(page: Page, selector: str, start: tuple[float, float], end: tuple[float, float]) -> None:
    """Drag over an element between two places, in shares of its size."""
    box = page.locator(selector).bounding_box()
    places = [(box["x"] + x * box["width"], box["y"] + y * box["height"]) for x, y in (start, end)]
    page.mouse.move(*places[0])
    page.mouse.down()
    page.mouse.move(*places[1], steps=5)
    page.mouse.up()
