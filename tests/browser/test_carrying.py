"""An interlaced clip with two sound tracks and timecode: told on its card, read otherwise, like the source."""

from __future__ import annotations

import zipfile
from pathlib import Path

import cv2
import numpy as np
import opentimelineio as otio
import pytest
from accessibility import violations
from playwright.sync_api import Page, expect
from steps import bring_in, open_bench, press, settled, start_project
from truth import run_ffmpeg

from keen_horizon.core.media.probe import probe


@pytest.fixture(scope="module")
def broadcast(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Fifty fields of a camera that is moved fast, as a broadcaster hands them over."""
    clip = tmp_path_factory.mktemp("broadcast") / "tower.mxf"
    pan = "testsrc2=size=640x480:rate=50:duration=1,crop=480:360:x='80+60*sin(9*t)':y='60+50*sin(13*t)'"
    tones = [("-f", "lavfi", "-i", f"sine={hertz}:sample_rate=48000:duration=1") for hertz in (440, 880)]
    run_ffmpeg(
        ffmpeg, "-f", "lavfi", "-i", f"{pan},interlace=scan=tff:lowpass=0", *tones[0], *tones[1],
        "-map", "0", "-map", "1", "-map", "2",
        "-c:v", "mpeg2video", "-q:v", "3", "-flags", "+ilme+ildct", "-top", "1", "-c:a", "pcm_s16le",
        "-timecode", "09:59:58:20", clip,
    )  # fmt: skip
    return clip


def test_what_an_interlaced_file_carries(page: Page, broadcast: Path) -> None:
    start_project(page)
    bring_in(page, broadcast)
    card = page.locator(".clip-card")
    expect(card).to_contain_text("Interlaced, top field first: read as one picture a field.")
    expect(card).to_contain_text("50 fps")
    card.locator("summary").click()
    page.get_by_label("Pictures of tower.mxf").select_option("frame")
    expect(card).to_contain_text("read as one picture a frame.")
    expect(card).to_contain_text("25 fps")
    assert violations(page) == []
    open_bench(page, broadcast.name)
    press(page, "Shift+ArrowRight")
    expect(page.get_by_label("Time and frame")).to_contain_text("09:59:59:05 frame 10")
    press(page, "4")
    carried = page.get_by_role("list", name="What goes along")
    expect(carried).to_contain_text("sound 2 (PCM 16 bits, mono) encoded as AAC")
    expect(carried).to_contain_text("timecode kept")
    page.get_by_label("Written as").select_option("source")
    expect(page.get_by_text("MPEG-2 is not written here: H.264 is nearest.")).to_be_visible()
    assert violations(page) == []
    settled(page)


def test_numbered_pictures_are_shown_as_fast_as_they_are_asked_to_be(page: Page, tmp_path: Path) -> None:
    clip = tmp_path / "sway.zip"
    with zipfile.ZipFile(clip, "w") as archive:
        for number in range(12):
            picture = np.roll(np.tile(np.arange(96, dtype=np.uint8) * 2, (64, 1)), 3 * number, 1)
            archive.writestr(f"sway.{number:04}.png", cv2.imencode(".png", picture)[1].tobytes())
    start_project(page)
    bring_in(page, clip)
    card = page.locator(".clip-card")
    expect(card).to_contain_text("Numbered pictures, 25 a second, as nothing tells otherwise.")
    card.locator("summary").click()
    rate = page.get_by_label("Pictures a second of sway.zip")
    expect(rate).to_have_value("25")
    rate.fill("23.976")
    rate.press("Enter")
    expect(card).to_contain_text("23.98 fps")
    expect(card).to_contain_text("Numbered pictures, 23.976 a second.")


def test_a_clip_read_otherwise_is_not_steadied_with_what_was_found_before(page: Page, broadcast: Path) -> None:
    assert probe(broadcast)[0].reading.every_field
    start_project(page)
    bring_in(page, broadcast)
    card = page.locator(".clip-card")
    card.get_by_role("button", name="Measure").click()
    expect(card).not_to_contain_text("motion not measured")
    card.locator("summary").click()
    page.get_by_label("Fields of tower.mxf").select_option("none")
    expect(card).to_contain_text("Read as whole pictures, set by hand.")
    expect(card).to_contain_text("motion not measured")
    page.get_by_label("Fields of tower.mxf").select_option("as found")
    expect(card).to_contain_text("read as one picture a field.")
    expect(card).not_to_contain_text("motion not measured")


def test_files_of_a_take_are_joined_and_an_edit_handed_back(page: Page, ffmpeg: str, tmp_path: Path) -> None:
    start_project(page)
    for number, start in enumerate(("10:00:00:00", "10:00:01:00"), 1):
        part = tmp_path / f"GX01000{number}.mp4"
        pictures = f"testsrc2=size=320x240:rate=25:duration=1,hue=h={90 * number}"
        encoding = ("-c:v", "libx264", "-pix_fmt", "yuv420p", "-timecode", start)
        run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", pictures, *encoding, part)
        bring_in(page, part)
    for number in (2, 1):
        page.get_by_label(f"Choose GX01000{number}.mp4").check()
    page.get_by_role("button", name="Join as one").click()
    joined = page.locator(".clip-card").filter(has_text="0:02")
    expect(joined).to_have_attribute("data-state", "ready")
    name = joined.locator("h2").inner_text()
    edit = tmp_path / "boat week.otio"
    edit.write_text(an_edit(name, first=10, count=20).to_json_string())
    page.get_by_label("Bring in an edit").set_input_files(edit)
    entry = page.get_by_role("list", name="Edits").get_by_role("listitem")
    expect(entry).to_contain_text("1 of 1 clips are here, 0 corrected")
    assert violations(page) == []
    open_bench(page, name)
    expect(page.locator(".inout")).to_contain_text("in 0out 41")
    press(page, "4")
    page.get_by_role("button", name="Render", exact=True).click()
    expect(page.get_by_role("link", name="Download file")).to_be_visible()
    page.go_back()
    expect(entry).to_contain_text("1 corrected")
    with page.expect_download() as handed:
        entry.get_by_role("link", name="Hand back").click()
    back = otio.adapters.read_from_file(handed.value.path(), adapter_name="otio_json")
    (clip,) = back.find_clips()
    assert clip.media_reference.target_url.endswith("_steady_10-00-00-00.mp4")
    assert clip.source_range.duration.value == 20


def an_edit(name: str, *, first: int, count: int) -> otio.schema.Timeline:
    """An edit of one clip, whose material begins at ten o'clock."""

    def span(start: int, frames: int) -> otio.opentime.TimeRange:
        return otio.opentime.TimeRange(otio.opentime.RationalTime(start, 25), otio.opentime.RationalTime(frames, 25))

    timeline, track = otio.schema.Timeline("Boat week"), otio.schema.Track("V1")
    reference = otio.schema.ExternalReference(f"/volumes/shoot/{name}", span(900_000, 50))
    track.append(otio.schema.Clip("quay", reference, span(900_000 + first, count)))
    timeline.tracks.append(track)
    return timeline
