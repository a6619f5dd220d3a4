"""Starting points, copies to other clips, the queue's order, comparisons, data out and the report, over HTTP."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
from applications import Browser

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.probe import probe


@pytest.fixture
def second(browser: Browser, project: int, shaky: tuple[Path, Similarities], tmp_path: Path) -> int:
    """Another clip on the same shelf."""
    other = tmp_path / "second.mp4"
    other.write_bytes(shaky[0].read_bytes() + b"\0\0\0\x08free")
    number = browser.upload(project, other)
    browser.work()
    return number


def draft(browser: Browser, number: int) -> dict:
    return browser.ask("GET", f"/api/clips/{number}")["draft"]


def test_starting_points_are_kept_applied_and_begun_with(browser: Browser, project: int, clip: int, shaky) -> None:
    points = browser.ask("GET", "/api/starting-points")
    assert {"Barely there", "Walking shot", "Tripod"} <= {p["name"] for p in points}
    tripod = next(p for p in points if p["name"] == "Tripod")
    treatment = draft(browser, clip) | {"range": {"in": 3, "out": 50}}
    after = browser.ask("POST", f"/api/starting-points/{tripod['id']}/apply", json=treatment)
    assert (after["motion"]["intent"], after["range"]) == ("hold", {"in": 3, "out": 50})
    refused = browser.ask("POST", "/api/starting-points", 400, json={"name": "tripod", "treatment": after})
    assert "ships with the application" in refused["error"]
    after["motion"]["response_s"] = 2.2
    mine = browser.ask("POST", "/api/starting-points", json={"name": "Pier", "treatment": after})
    assert mine["settings"]["motion"]["response_s"] == 2.2
    listed = browser.ask("POST", f"/api/starting-points/{mine['id']}/default")
    assert [p["name"] for p in listed if p["is_default"]] == ["Pier"]
    renamed = browser.upload(project, shaky[0], "later.mp4")
    browser.work()
    browser.ask("DELETE", f"/api/clips/{renamed}")
    browser.ask("DELETE", f"/api/clips/{clip}")
    fresh = browser.upload(project, shaky[0], "fresh.mp4")
    browser.work()
    assert draft(browser, fresh)["motion"]["response_s"] == 2.2
    assert "stays" in browser.ask("DELETE", f"/api/starting-points/{tripod['id']}", 400)["error"]
    browser.ask("DELETE", f"/api/starting-points/{mine['id']}")
    assert "Pier" not in {p["name"] for p in browser.ask("GET", "/api/starting-points")}


def test_a_treatment_goes_to_other_clips_and_each_is_measured(browser: Browser, clip: int, second: int) -> None:
    theirs = draft(browser, second) | {"range": {"in": 10, "out": 30}}
    browser.ask("PUT", f"/api/clips/{second}/draft", json=theirs)
    mine = draft(browser, clip)
    mine["motion"] |= {"intent": "hold"}
    mine["edges"]["zoom_limit"] = 1.4
    body = {"treatment": mine, "clips": [second, clip], "render": True}
    answer = browser.ask("POST", f"/api/clips/{clip}/copies", json=body)
    assert answer["clips"] == [second]
    assert [w["kind"] for w in answer["works"]] == ["measure", "render"]
    browser.work()
    other = browser.ask("GET", f"/api/clips/{second}")
    assert (other["draft"]["motion"]["intent"], other["draft"]["range"]) == ("hold", {"in": 10, "out": 30})
    assert other["measured"] == [[10, 30]]
    assert other["renders"][0]["report"]["frames"] == 21
    assert other["renders"][0]["report"]["zoom"] <= 1.4


def test_several_clips_start_at_once_and_the_queue_is_ordered(
    browser: Browser, project: int, clip: int, second: int
) -> None:
    browser.ask("POST", f"/api/projects/{project}/measure", json={"clips": [clip, second]})
    browser.work()
    browser.ask("POST", f"/api/projects/{project}/render", json={"clips": [clip, second]})
    third = browser.ask("POST", f"/api/clips/{clip}/renders", json=draft(browser, clip))["works"][0]["id"]
    listed = browser.ask("GET", "/api/works")
    waiting = [w["id"] for w in listed["works"] if w["state"] == "waiting"]
    assert waiting == sorted(waiting)
    assert all(w["needs"] > 0 for w in listed["works"] if w["state"] == "waiting")
    assert listed["free"] > 1e6
    browser.ask("POST", f"/api/works/{third}/sooner")
    browser.ask("POST", f"/api/works/{third}/sooner")
    moved = [w["id"] for w in browser.ask("GET", "/api/works")["works"] if w["state"] == "waiting"]
    assert moved == [third, *waiting[:2]]
    with browser.services.session() as session:
        rows = session.connection().exec_driver_sql(
            "SELECT args->>'work_id' FROM procrastinate_jobs WHERE status = 'todo' AND queueing_lock IN "
            "(SELECT 'work-' || id FROM work WHERE state = 'waiting') ORDER BY priority DESC, id"
        )
        assert [int(number) for (number,) in rows] == moved
    browser.ask("POST", f"/api/works/{third}/later")
    assert [w["id"] for w in browser.ask("GET", "/api/works")["works"]][:2] == [waiting[0], third]
    browser.ask("POST", f"/api/works/{third}/cancel")
    assert "Only renders that still wait" in browser.ask("POST", f"/api/works/{third}/sooner", 400)["error"]


def test_a_render_measures_first(browser: Browser, clip: int) -> None:
    works = browser.ask("POST", f"/api/clips/{clip}/renders", json=draft(browser, clip))["works"]
    assert [w["kind"] for w in works] == ["measure", "render"]
    browser.work()
    assert browser.ask("GET", f"/api/clips/{clip}")["renders"]


def test_comparisons_are_files_too(browser: Browser, clip: int, tmp_path: Path) -> None:
    now = draft(browser, clip) | {"range": {"in": 0, "out": 19}}
    other = json.loads(json.dumps(now))
    other["motion"]["intent"] = "hold"
    for against, layout in ((None, "side"), (other, "wipe")):
        body = {"treatment": now, "against": against, "layout": layout, "place": 0.4}
        browser.ask("POST", f"/api/clips/{clip}/comparisons", json=body)
        browser.work()
    renders = browser.ask("GET", f"/api/clips/{clip}")["renders"]
    assert [r["what"] for r in renders] == ["H.264, MP4, side by side", "H.264, MP4, wiped"]
    (tmp_path / "side.mp4").write_bytes(browser.client.get(renders[0]["file"]).data)
    assert probe(tmp_path / "side.mp4")[0].coded.width == 1280


def test_other_formats_come_down_under_their_own_names(browser: Browser, clip: int) -> None:
    now = draft(browser, clip) | {"range": {"in": 0, "out": 9}}
    now["output"] |= {"codec": "png", "container": "zip"}
    browser.ask("POST", f"/api/clips/{clip}/renders", json=now)
    browser.work()
    file = browser.client.get(browser.ask("GET", f"/api/clips/{clip}")["renders"][0]["file"])
    assert file.mimetype == "application/zip"
    assert "shaky_steady.zip" in file.headers["Content-Disposition"]
    with zipfile.ZipFile(io.BytesIO(file.data)) as archive:
        assert {"shaky_steady.000000.png", "shaky_steady.000009.png"} < set(archive.namelist())


def test_data_of_the_settings_and_the_report(browser: Browser, clip: int) -> None:
    now = draft(browser, clip)
    browser.ask("POST", f"/api/clips/{clip}/measure", json=now)
    browser.work()
    table = list(csv.DictReader(io.StringIO(browser.save(f"/api/clips/{clip}/data/transforms.csv", now).text)))
    rows = json.loads(browser.save(f"/api/clips/{clip}/data/path.json", now).data)["frames"]
    assert len(table) == len(rows) == 90
    turn, scale = np.radians(float(table[7]["turn_deg"])), float(table[7]["scale"])
    matrix = np.array(rows[7]["matrix"])
    assert matrix[:2, :2] == pytest.approx(
        scale * np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]]), abs=1e-6
    )
    middle = matrix @ [319.5, 179.5, 1]
    assert middle[:2] - [319.5, 179.5] == pytest.approx([float(table[7]["shift_x_px"]), float(table[7]["shift_y_px"])])
    page = browser.client.get(f"/clips/{clip}/report")
    assert page.status_code == 200
    for part in ("zoom, largest", "Glide", "frame", "chart-after", "would do"):
        assert part in page.text
    assert browser.picture(clip, frame=3, part=[10, 10, 200, 100]).shape == (100, 200, 3)
    for part in (["a", 0, 100, 100], [1e308, 0, 100, 100], [0, 0, 100], [0, 0, 1e9, 100]):
        browser.save(f"/api/clips/{clip}/stills", {"frame": 3, "part": part}, 400)
