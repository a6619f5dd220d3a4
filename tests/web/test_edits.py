"""An edit brought to a project: ranges from it, and the same edit back with renders in place of the originals."""

from __future__ import annotations

import json
from pathlib import Path

import opentimelineio as otio
import pytest
from applications import Browser
from truth import run_ffmpeg

RATE, START = 25, 36000 * 25


@pytest.fixture(scope="module")
def shoot(media: Path, ffmpeg: str) -> Path:
    """Two films with timecode in the media folder."""
    folder = media / "shoot"
    folder.mkdir(exist_ok=True)
    for number, name in enumerate(("ferry.mov", "crane.mov")):
        pictures = f"testsrc2=size=160x120:rate={RATE}:duration=2,hue=h={150 * number}"
        encoding = ("-c:v", "libx264", "-pix_fmt", "yuv420p", "-timecode", "10:00:00:00")
        run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", pictures, *encoding, folder / name)
    return folder


def edit() -> otio.schema.Timeline:
    def span(first: int, count: int) -> otio.opentime.TimeRange:
        return otio.opentime.TimeRange(otio.opentime.RationalTime(first, RATE), otio.opentime.RationalTime(count, RATE))

    timeline = otio.schema.Timeline("Boat week")
    track = otio.schema.Track("V1")
    timeline.tracks.append(track)
    for name, first in (("ferry.mov", 15), ("crane.mov", 20), ("ferry.mov", 25), ("lost.mov", 3)):
        reference = otio.schema.ExternalReference(f"/volumes/shoot/{name}", span(START, 50))
        track.append(otio.schema.Clip(f"{name} {first}", reference, span(START + first, 8)))
    return timeline


def test_there_and_back(browser: Browser, project: int, shoot: Path) -> None:
    text = edit().to_json_string()
    facts = browser.ask("POST", f"/api/projects/{project}/edits/boat%20week.otio", data=text)
    assert (facts["clips"], facts["linked"], facts["coming"], facts["corrected"]) == (4, 0, 3, 0)
    browser.work()
    (facts,) = browser.ask("GET", f"/api/projects/{project}/edits")
    assert (facts["linked"], facts["coming"]) == (3, 0)
    assert facts["misses"] == ["lost.mov 3: 2 files could be lost.mov"]
    clips = {card["name"]: card["id"] for card in browser.ask("GET", f"/api/projects/{project}/clips")}
    drafts = {name: browser.ask("GET", f"/api/clips/{number}")["draft"] for name, number in clips.items()}
    assert drafts["ferry.mov"]["range"] == {"in": 3, "out": 44}
    assert drafts["crane.mov"]["range"] == {"in": 8, "out": 39}
    still = drafts["ferry.mov"] | {"motion": drafts["ferry.mov"]["motion"] | {"intent": None}}
    browser.ask("POST", f"/api/clips/{clips['ferry.mov']}/renders", json=still)
    browser.work()
    (facts,) = browser.ask("GET", f"/api/projects/{project}/edits")
    assert facts["corrected"] == 2
    back = otio.schema.Timeline.from_json_string(
        browser.client.get(f"/api/edits/{facts['id']}/file").get_data(as_text=True)
    )
    for old, new in zip(edit().find_clips(), back.find_clips(), strict=True):
        assert new.source_range == old.source_range
        if not old.name.startswith("ferry"):
            assert new.media_reference.is_equivalent_to(old.media_reference)
            continue
        assert new.media_reference.target_url == "ferry_steady_10-00-00-03.mp4"
        assert new.media_reference.available_range.start_time.value == START + 3
        assert new.media_reference.available_range.duration.value == 42


def test_an_editors_own_range_stays(browser: Browser, project: int, shoot: Path) -> None:
    browser.ask("POST", f"/api/projects/{project}/media", json={"path": "shoot/crane.mov"})
    browser.work()
    (card,) = browser.ask("GET", f"/api/projects/{project}/clips")
    draft = browser.ask("GET", f"/api/clips/{card['id']}")["draft"] | {"range": {"in": 1, "out": 5}}
    browser.ask("PUT", f"/api/clips/{card['id']}/draft", json=draft)
    facts = browser.ask("POST", f"/api/projects/{project}/edits/e.otio", data=edit().to_json_string())
    assert browser.ask("GET", f"/api/clips/{card['id']}")["draft"]["range"] == {"in": 1, "out": 5}
    browser.ask("DELETE", f"/api/edits/{facts['id']}")
    assert browser.ask("GET", f"/api/projects/{project}/edits") == []


@pytest.mark.parametrize(
    "body", [b"", b"\xff\xfe", b"{}", b"[" * 200_000, json.dumps({"OTIO_SCHEMA": "Clip.2"}).encode()]
)
def test_what_is_no_edit_is_said(browser: Browser, project: int, body: bytes) -> None:
    refused = browser.ask("POST", f"/api/projects/{project}/edits/boat.otio", 400, data=body)
    assert refused["error"].startswith("boat.otio: ")
