"""An interlaced clip with two sound tracks and timecode: told on its card, read otherwise, like the source."""

from __future__ import annotations

from pathlib import Path

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
