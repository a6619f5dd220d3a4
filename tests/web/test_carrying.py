"""Numbered pictures on the shelf, and what is said of what goes along."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from applications import Browser
from numbered import encoded_picture, packed, picture
from truth import run_ffmpeg

from keen_horizon.core.treatment.document import Treatment


def card(browser: Browser, project: int, number: int) -> dict:
    cards = browser.ask("GET", f"/api/projects/{project}/clips")
    return next(card for card in cards if card["id"] == number)


def test_numbered_pictures_are_received_and_their_rate_is_set(browser: Browser, project: int, tmp_path: Path) -> None:
    pictures = {f"quay.{1 + i:04}.png": picture(i, np.uint8) for i in range(6)}
    clip = browser.upload(project, packed(tmp_path / "quay.zip", pictures))
    browser.work()
    shown = card(browser, project, clip)
    assert shown["state"] == "ready", shown["error"]
    assert (shown["numbered"], shown["rate"]) == (True, 25)
    assert shown["scan"] == "Numbered pictures, 25 a second, as nothing tells otherwise."
    browser.ask("POST", f"/api/clips/{clip}/reading", json={"rate": 30})
    browser.work()
    shown = card(browser, project, clip)
    assert (shown["rate"], shown["scan"]) == (30, "Numbered pictures, 30 a second.")
    browser.ask("POST", f"/api/clips/{clip}/reading", 400, json={"rate": 0})
    told = browser.ask("POST", f"/api/clips/{clip}/goes-along", json=_delivered("source", "source"))
    assert told["output"]["codec"] == "png"
    assert told["fates"][0] == {"what": "R G B at 8 bits", "outcome": "kept", "how": ""}


def test_a_folder_of_pictures_is_used_where_it_lies(browser: Browser, project: int, media: Path) -> None:
    folder = media / f"series_{project}" / "dinghy"
    folder.mkdir(parents=True)
    for number in range(5):
        (folder / f"dinghy{number}.png").write_bytes(encoded_picture(number))
    name = str(folder.relative_to(media))
    clip = browser.ask("POST", f"/api/projects/{project}/media", json={"path": name})["id"]
    browser.work()
    assert card(browser, project, clip)["state"] == "ready"
    assert not card(browser, project, clip)["changed"]
    (folder / "dinghy5.png").write_bytes(encoded_picture(5))
    assert card(browser, project, clip)["changed"]
    browser.ask("POST", f"/api/clips/{clip}/retry")
    browser.work()
    assert browser.ask("GET", f"/api/clips/{clip}")["info"]["frames"] == 6


def test_files_of_a_take_become_one_clip(browser: Browser, project: int, tmp_path: Path, ffmpeg: str) -> None:
    numbers = []
    for number in (1, 2, 4):
        file = tmp_path / f"take_{number}.mov"
        start = f"10:00:0{number - 1}:00"
        pattern = ("-f", "lavfi", "-i", f"testsrc2=size=160x120:rate=25:duration=1,hue=h={90 * number}")
        run_ffmpeg(ffmpeg, *pattern, "-c:v", "libx264", "-pix_fmt", "yuv420p", "-timecode", start, file)
        numbers.append(browser.upload(project, file))
    browser.work()
    refused = browser.ask("POST", f"/api/projects/{project}/join", 400, json={"clips": numbers})
    assert refused["error"] == "take_4.mov: its name does not count on from take_2.mov."
    joined = browser.ask("POST", f"/api/projects/{project}/join", json={"clips": numbers[:2]})
    browser.work()
    shown = card(browser, project, joined["id"])
    assert (shown["name"], shown["state"], shown["error"]) == ("take_1-take_2.mov", "ready", None)
    detail = browser.ask("GET", f"/api/clips/{joined['id']}")
    assert detail["info"]["frames"] == 50
    assert detail["info"]["timecode"]["starts"] == [[0, 36000 * 25]]


def test_an_archive_of_something_else_is_refused_by_name(browser: Browser, project: int, tmp_path: Path) -> None:
    clip = browser.upload(project, packed(tmp_path / "papers.zip", {}, notes="none"))
    browser.work()
    shown = card(browser, project, clip)
    assert shown["state"] == "failed"
    assert "papers.zip: there are no numbered pictures" in shown["error"]


def _delivered(codec: str, container: str) -> dict:
    return Treatment.from_json({"output": {"codec": codec, "container": container}}).to_json()
