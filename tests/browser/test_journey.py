"""The whole story: a shaky clip comes in, a steady file goes out."""

from __future__ import annotations

import base64
import json
import re
from pathlib import Path

import numpy as np
import pytest
from accessibility import violations
from playwright.sync_api import Browser, Page, Route, expect
from services import wait_for
from steps import bring_in, canvas_of, draft_of, frame_of, go, press, start_project, to_bench, to_shared_bench, zoom_of
from truth import padding, run_ffmpeg, turned

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.frames import read_frame
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.proxy import limited_range, picture_of, scaled_planes
from keen_horizon.core.path.figures import shake
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures

pytestmark = pytest.mark.browser


def test_shaky_in_steady_out(page: Page, shaky: tuple[Path, Similarities], tmp_path: Path) -> None:
    clip = shaky[0]
    start_project(page)
    bring_in(page, clip)
    assert violations(page) == []
    card = page.locator(".clip-card")
    expect(card).to_contain_text("0:03 · 640×360 · 30 fps")
    card.get_by_role("button", name="Measure").click()
    expect(card).to_contain_text(re.compile(r"shake \d\.\d\d % of the width"))
    page.get_by_role("link", name=clip.name, exact=True).click()
    expect(page.locator(".outcome tbody tr")).to_have_count(5)
    assert violations(page) == []

    before = zoom_of(page)
    assert before > 1.01
    press(page, "3")
    page.get_by_role("spinbutton", name="Zoom limit").fill("1.02")
    page.get_by_role("spinbutton", name="Zoom limit").press("Tab")
    expect(page.locator(".verdict")).to_contain_text("The limit holds it to 1.0")
    assert zoom_of(page) <= 1.02
    assert violations(page) == []
    press(page, "Control+z")
    expect(page.locator(".verdict")).to_contain_text("inside the limit")
    assert zoom_of(page) == before
    press(page, "Control+Shift+z")
    expect(page.locator(".verdict")).to_contain_text("The limit holds it")
    page.get_by_role("button", name=re.compile("Reset zoom limit")).click()
    page.get_by_role("button", name="save new").click()
    expect(page.get_by_role("button", name="A", exact=True)).to_be_visible()

    press(page, "4")
    page.get_by_role("button", name="Render").click()
    expect(page.get_by_role("link", name=re.compile("Download file"))).to_be_visible(timeout=60_000)
    assert violations(page) == []
    with page.expect_download() as waiting:
        page.get_by_role("link", name=re.compile("Download file")).click()
    steady = tmp_path / waiting.value.suggested_filename
    waiting.value.save_as(steady)
    assert steady.name == "shaky_steady.mp4"
    info, times = probe(steady)
    assert (info.frames, info.sound) == (90, "aac")
    after = measure_clip(steady, info, times, 0, 89)
    source_info, source_times = probe(clip)
    shaken = measure_clip(clip, source_info, source_times, 0, 89)
    centred = [shake(m.poses.about(m.size.centre), m.size) for m in (shaken, after)]
    assert centred[1] < 0.1 * centred[0]
    report = page.request.get(page.get_by_role("link", name="report").get_attribute("href")).json()
    assert report["gap_pixels"] == 0
    address = re.search(r"/clips/\d+", page.url)[0]  # type: ignore[index]
    page.get_by_role("link", name="jobs").click()
    expect(page.locator(".jobs tbody tr").filter(has=page.locator(f'a[href="{address}"]'))).to_have_count(3)
    assert violations(page) == []


def test_what_is_seen_is_what_is_rendered(page: Page, tmp_path: Path) -> None:
    """Frame by frame, at the proxy's size: the viewer is made just as wide."""
    clip, large = tmp_path / "large.mp4", Size(1280, 720)
    write_pictures(shaken_pictures(jitter(30, large, 9.0, seed=41), large, noise=1.0), large, 30, clip, quality=16)
    page.set_viewport_size({"width": 164 + 248 + 960, "height": 44 + 540 + 36 + 44 + 168})
    to_bench(page, clip)
    press(page, "4")
    page.locator("#quality").fill("6")  # hardly compressed, so that the pictures are compared and not the encoder
    page.locator("#quality").press("Enter")
    page.get_by_role("button", name="Render").click()
    expect(page.get_by_role("link", name=re.compile("Download file"))).to_be_visible(timeout=60_000)
    address = page.get_by_role("link", name=re.compile("Download file")).get_attribute("href")
    (tmp_path / "r.mp4").write_bytes(page.request.get(address).body())
    for number in (11, 27):
        go(page, number)
        frame = read_frame(tmp_path / "r.mp4", number)
        size = Size(960, 540)
        rendered = picture_of(scaled_planes(frame, size), limited_range(frame.tags), size).astype(int)

        def difference(rendered: np.ndarray = rendered) -> float:
            seen = canvas_of(page)
            assert seen.shape == (540, 960, 3)
            return float(np.abs(seen.astype(int) - rendered)[4:-4, 4:-4].mean())

        live = difference()
        print(f"frame {number}: {live:.2f} of 255")
        assert live <= 2.0
        page.keyboard.down("b")
        page.wait_for_timeout(150)
        assert difference() > 2 * live
        page.keyboard.up("b")


def test_transport_range_and_url(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_shared_bench(page, shaky[0])
    strip = page.locator(".strip")
    box = strip.bounding_box()
    page.mouse.click(box["x"] + 300, box["y"] + 60)
    wait_for(lambda: 20 < frame_of(page) < 60)
    middle = frame_of(page)
    press(page, "ArrowRight")
    expect(page.get_by_label("Time and frame")).to_contain_text(f"frame {middle + 1}")
    press(page, "Shift+ArrowLeft")
    expect(page.get_by_label("Time and frame")).to_contain_text(f"frame {middle - 9}")
    assert f"frame={middle - 9}" in page.url
    press(page, "i")
    expect(page.get_by_role("button", name=re.compile("^in "))).to_contain_text(str(middle - 9))
    expect(page.locator(".outcome tbody tr")).to_have_count(5)
    press(page, "Space")
    wait_for(lambda: frame_of(page) > middle)
    press(page, "k")
    expect(page.get_by_role("button", name="Play")).to_be_visible()
    page.wait_for_timeout(1000)
    stopped = frame_of(page)
    page.wait_for_timeout(500)
    assert frame_of(page) == stopped
    press(page, "3")
    pinch = int(re.search(r"frame (\d+)", page.locator(".pinches li").first.inner_text())[1])  # type: ignore[index]
    press(page, "w")
    expect(page.get_by_label("Time and frame")).to_contain_text(f"frame {pinch}")
    page.reload()
    expect(page.get_by_label("Time and frame")).to_contain_text(f"frame {pinch}")
    expect(page.get_by_role("button", name=re.compile("^in "))).to_contain_text(str(middle - 9))
    press(page, "?")
    expect(page.get_by_role("heading", name="Keys")).to_be_visible()
    press(page, "Escape")
    expect(page.get_by_role("heading", name="Keys")).to_be_hidden()


def test_views_gaps_and_versions(page: Page, shaky: tuple[Path, Similarities]) -> None:
    to_bench(page, shaky[0])
    go(page, 30)
    result = canvas_of(page)
    page.get_by_role("button", name="before", exact=True).click()
    source = canvas_of(page)
    page.get_by_role("button", name="wipe").click()
    both = canvas_of(page)
    half = both.shape[1] // 2
    assert np.array_equal(both[:, : half - 4], source[:, : half - 4])
    assert np.array_equal(both[:, half + 4 :], result[:, half + 4 :])
    page.get_by_role("slider", name="Wipe line").focus()
    press(page, "ArrowRight")
    assert page.get_by_role("slider", name="Wipe line").get_attribute("aria-valuenow") == "52"
    page.get_by_role("button", name="side by side").click()
    assert not np.array_equal(canvas_of(page), both)
    page.get_by_role("button", name="after", exact=True).click()
    page.get_by_role("button", name="save new").click()
    press(page, "3")
    page.get_by_role("radio", name=re.compile("Leave")).check()
    expect(page.get_by_text("largest gap")).to_be_visible()
    page.get_by_role("button", name="save new").click()
    page.get_by_role("button", name="A", exact=True).click()
    expect(page.get_by_role("radio", name=re.compile("Fill"))).to_be_checked()
    page.get_by_role("button", name="B", exact=True).click()
    expect(page.get_by_role("radio", name=re.compile("Leave"))).to_be_checked()
    wait_for(lambda: draft_of(page)["edges"]["way"] == "leave")
    page.reload()
    expect(page.locator(".outcome tbody tr")).to_have_count(5)
    press(page, "3")
    expect(page.get_by_role("radio", name=re.compile("Leave"))).to_be_checked()


def test_a_bad_file_explains_itself_and_goes_away(page: Page, tmp_path: Path) -> None:
    start_project(page)
    bad = tmp_path / "holiday.mp4"
    bad.write_text("not a film")
    page.set_input_files("input[type=file]", bad)
    card = page.locator(".clip-card")
    expect(card.get_by_role("alert").filter(has_text="holiday.mp4: this is not a video file")).to_be_visible()
    expect(card.get_by_role("button", name="Try again").first).to_be_visible()
    assert violations(page) == []
    page.once("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Remove holiday.mp4").click()
    expect(card).to_have_count(0)


def test_a_broken_connection_goes_on_where_it_stopped(page: Page, tmp_path: Path, shaky) -> None:
    """Pieces of 8 MB: the second finds no server, the first is not sent again."""
    start_project(page)
    clip = tmp_path / "long.mp4"
    clip.write_bytes(shaky[0].read_bytes() + padding(16 << 20))
    sent: list[str] = []

    def through(route: Route) -> None:
        place = route.request.url.rsplit("/", 1)[-1]
        sent.append(place)
        if place != "0" and sent.count(place) == 1:
            route.abort("connectionreset")
        else:
            route.continue_()

    page.route(re.compile("/api/uploads/"), through)
    page.set_input_files("input[type=file]", clip)
    expect(page.get_by_text("connection lost; trying again in 1 s")).to_be_visible()
    expect(page.get_by_role("link", name=clip.name, exact=True)).to_be_visible()
    assert sent[:3] == ["0", str(8 << 20), str(8 << 20)]
    assert sent.count("0") == 1


def test_files_dropped_on_the_shelf_come_in(page: Page, shaky) -> None:
    start_project(page)
    content = base64.b64encode(shaky[0].read_bytes()).decode()
    files = page.evaluate_handle(
        """content => {
          const bytes = Uint8Array.from(atob(content), (letter) => letter.charCodeAt(0));
          const dropped = new DataTransfer();
          dropped.items.add(new File([bytes], "dropped.mp4", { type: "video/mp4" }));
          return dropped;
        }""",
        content,
    )
    page.dispatch_event(".shelf", "dragover", {"dataTransfer": files})
    page.dispatch_event(".shelf", "drop", {"dataTransfer": files})
    expect(page.get_by_role("link", name="dropped.mp4", exact=True)).to_be_visible()
    expect(page.locator(".clip-card")).to_contain_text("640×360")


def test_rotated_deep_and_uneven_clips_reach_the_bench_and_render(page: Page, tmp_path: Path, ffmpeg: str) -> None:
    """A phone's upright 10-bit film whose frames come at varying times."""
    flat, clip = tmp_path / "flat.mov", tmp_path / "phone.mov"
    run_ffmpeg(
        ffmpeg, "-f", "lavfi", "-i", "testsrc2=size=480x270:rate=30:duration=2",
        "-vf", "settb=1/1000,setpts='N*1000/30+if(gt(mod(N,3),0),11,0)'", "-fps_mode", "passthrough",
        "-enc_time_base", "1/1000", "-c:v", "libx265", "-x265-params", "log-level=error",
        "-pix_fmt", "yuv420p10le", flat,
    )  # fmt: skip
    turned(flat, clip, 90)
    to_bench(page, clip)
    info = page.request.get(f"/api{re.search(r'/clips/[0-9]+', page.url)[0]}").json()["info"]  # type: ignore[index]
    assert (info["width"], info["height"]) == (270, 480)
    box = page.locator(".viewer canvas").bounding_box()
    assert box["height"] > 1.7 * box["width"]
    press(page, "4")
    page.get_by_role("button", name="Render").click()
    link = page.get_by_role("link", name=re.compile("Download file"))
    expect(link).to_be_visible(timeout=60_000)
    (tmp_path / "r.mp4").write_bytes(page.request.get(link.get_attribute("href")).body())
    before, times = probe(clip)
    after, after_times = probe(tmp_path / "r.mp4")
    assert (after.frames, after.display, after.bit_depth) == (60, before.display, 10)
    assert np.abs((after_times - after_times[0]) - (times - times[0])).max() < 0.001
    assert np.ptp(np.diff(times)) > 0.01


def test_without_webgl_exact_stills_are_shown(chromium: Browser, address: str, shaky) -> None:
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, base_url=address)
    page = context.new_page()
    page.add_init_script("HTMLCanvasElement.prototype.getContext = () => null")
    to_bench(page, shaky[0])
    expect(page.get_by_text("This browser has no WebGL 2")).to_be_visible()
    expect(page.locator(".viewer img").first).to_be_visible()
    # decoding is refused where another still is asked for meanwhile, as it is once the motion is solved
    page.wait_for_function("() => document.querySelector('.viewer img').decode().then(() => true, () => false)")
    context.close()


def test_progress_survives_a_reload(page: Page, shaky: tuple[Path, Similarities], media: Path) -> None:
    to_bench(page, shaky[0], measured=False)
    page.get_by_role("button", name="Measure motion").click()
    page.reload()
    expect(page.locator(".outcome tbody tr")).to_have_count(5)
    detail = page.request.get(f"/api{re.search(r'/clips/[0-9]+', page.url)[0]}").json()  # type: ignore[index]
    assert detail["measured"] == [[0, 89]]
    assert json.dumps(detail["draft"])
