"""The application over HTTP, with real tables and files; background work runs inside the test."""

from __future__ import annotations

import json
import re
from html import unescape
from importlib import import_module
from pathlib import Path

import cv2
import numpy as np
import pytest
from applications import Browser

from keen_horizon import web
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.operations.clips import used_keys
from keen_horizon.operations.housekeeping import tidy
from keen_horizon.web.newest import Newest


def test_empty_start_and_pages(browser: Browser, project: int) -> None:
    assert browser.client.get("/").headers["Location"] == f"/projects/{project}"
    for address in (f"/projects/{project}", "/jobs", "/about"):
        page = browser.client.get(address)
        assert page.status_code == 200
        assert "default-src 'self'" in page.headers["Content-Security-Policy"]
        assert "unsafe" not in page.headers["Content-Security-Policy"]
        assert page.headers["X-Content-Type-Options"] == "nosniff"
        assert not re.search(r"https?://(?!www\.w3\.org)", re.sub(r"(?s)<pre.*?</pre>", "", page.text))
    assert browser.client.get("/projects/999").status_code == 404
    assert "nothing at this address" in browser.client.get("/nowhere").text


def test_files_that_ship_are_kept_by_browsers(browser: Browser, project: int) -> None:
    """Under an address that hangs on what all of them hold, and on nobody's cookie."""
    page = browser.client.get(f"/projects/{project}").text
    script = re.search(r'src="(/shipped/[0-9a-f]{16}/js/main.js)"', page)[1]
    answer = browser.client.get(script)
    assert answer.text == browser.client.get("/static/js/main.js").text
    assert (answer.cache_control.immutable, answer.cache_control.max_age) == (True, 365 * 24 * 3600)
    assert not {"Vary", "Set-Cookie"} & set(answer.headers.keys())
    former = browser.client.get(script.replace(script.split("/")[2], "0" * 16))
    assert (former.text, former.cache_control.no_cache) == (answer.text, True)
    assert browser.client.get(script.replace("js/main.js", "../web/factory.py")).status_code == 404


def test_only_the_newest_question_of_a_page_is_answered() -> None:
    curves = Newest()
    mine, theirs = curves.ask((1, "me")), curves.ask((1, "they"))
    assert not mine()
    again = curves.ask((1, "me"))
    assert mine()
    assert not again()
    assert not theirs()
    newer, older = curves.ask((2, "me"), 8), curves.ask((2, "me"), 7)  # which was overtaken on its way
    assert older()
    assert not newer()


def declared(name: str) -> set[str]:
    """The properties that the page's scripts believe a thing of the server to have."""
    text = (Path(web.__file__).parent / "static/js/types.js").read_text()
    block = next(
        part for part in text.split("/**") if re.search(rf"@typedef .*\b{name}\b(?! &)", part.split("@property")[0])
    )
    return set(re.findall(r"@property \{.+?\} \[?(\w+)", block)) | set(re.findall(r"(\w+)\??:", block.split(name)[0]))


def test_the_page_s_types_are_what_is_said(browser: Browser, project: int, clip: int) -> None:
    card = browser.ask("GET", f"/api/projects/{project}/clips")[0]
    assert set(card) == declared("Card")
    row = browser.ask("GET", "/api/works")["works"][0]
    assert declared("Work") <= set(row) <= declared("Work") | declared("WorkRow")
    browser.ask("POST", f"/api/clips/{clip}/measure", json=browser.ask("GET", f"/api/clips/{clip}")["draft"])
    browser.work()
    treatment = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    version = browser.ask("POST", f"/api/clips/{clip}/versions", json=treatment)
    assert set(version) == declared("Version")
    curve = browser.ask("POST", f"/api/clips/{clip}/trade-off", json=treatment)
    assert set(curve[0]) == declared("Trade")
    point = browser.ask("GET", "/api/starting-points")[0]
    assert set(point) == declared("StartingPoint")


def test_writes_need_the_token(browser: Browser) -> None:
    assert browser.client.post("/api/projects", json={"name": "x"}).status_code == 400


def test_a_clip_that_is_still_arriving_says_so(browser: Browser, project: int, shaky) -> None:
    clip = browser.upload(project, shaky[0])
    assert "not ready yet" in browser.ask("GET", f"/api/clips/{clip}", 400)["error"]
    assert "not ready yet" in browser.client.get(f"/clips/{clip}").text


def test_arrival_measure_solve_version_render(browser: Browser, clip: int) -> None:
    detail = browser.ask("GET", f"/api/clips/{clip}")
    assert detail["info"]["frames"] == 90
    treatment = detail["draft"]
    refused = browser.ask("POST", f"/api/clips/{clip}/solve", 400, json=treatment)
    assert "not been measured" in refused["error"]
    browser.ask("POST", f"/api/clips/{clip}/measure", json=treatment)
    browser.work()
    assert browser.ask("POST", f"/api/clips/{clip}/measure", json=treatment)["work"] is None
    solved = browser.ask("POST", f"/api/clips/{clip}/solve", json=treatment)
    assert len(solved["src_from_out"]) == 90
    assert solved["ledger"]["zoom"] <= 1.1
    assert solved["ledger"]["shake_after_px"] < 0.5 * solved["ledger"]["shake_before_px"]
    version = browser.ask("POST", f"/api/clips/{clip}/versions", json=treatment)
    assert (version["letter"], round(version["zoom"], 5)) == ("A", round(solved["ledger"]["zoom"], 5))
    browser.ask("POST", f"/api/clips/{clip}/renders", json=treatment)
    browser.work()
    render = browser.ask("GET", f"/api/clips/{clip}")["renders"][0]
    assert render["report"]["gap_pixels"] == 0
    file = browser.client.get(render["file"])
    assert file.headers["Content-Disposition"].startswith("attachment")
    assert file.data[4:8] == b"ftyp"
    part = browser.client.get(render["file"], headers={"Range": "bytes=0-99"})
    assert (part.status_code, len(part.data)) == (206, 100)
    assert len(json.loads(browser.client.get(render["path_json"]).data)["frames"]) == 90
    assert browser.client.get(render["path_csv"]).text.startswith("frame,time,m00")
    assert not list(browser.services.files.work_path("x").parent.iterdir())


def test_parts_of_a_measured_range_need_no_measuring(browser: Browser, clip: int) -> None:
    treatment = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    browser.ask("POST", f"/api/clips/{clip}/measure", json=treatment | {"range": {"in": 10, "out": 60}})
    browser.work()
    inner = treatment | {"range": {"in": 20, "out": 40}}
    assert browser.ask("POST", f"/api/clips/{clip}/solve", json=inner)["first"] == 20
    curve = browser.ask("POST", f"/api/clips/{clip}/trade-off?asker=me", json=inner)
    assert [point["zoom"] for point in curve] == sorted(point["zoom"] for point in curve)
    wider = treatment | {"range": {"in": 5, "out": 40}}
    assert "not been measured" in browser.ask("POST", f"/api/clips/{clip}/solve", 400, json=wider)["error"]
    beyond = treatment | {"range": {"in": 5, "out": 400}}
    assert "last frame is 89" in browser.ask("POST", f"/api/clips/{clip}/measure", 400, json=beyond)["error"]


def test_upload_goes_on_where_it_stopped(browser: Browser, project: int, shaky: tuple[Path, Similarities]) -> None:
    content = shaky[0].read_bytes()
    begun = {"name": "again.mp4", "size": len(content), "modified": 7}
    first = browser.ask("POST", f"/api/projects/{project}/uploads", json=begun)
    browser.ask("PUT", f"/api/uploads/{first['id']}/0", data=content[:5000])
    assert "expected the piece at 5000" in browser.ask("PUT", f"/api/uploads/{first['id']}/9", 409, data=b"x")["error"]
    again = browser.ask("POST", f"/api/projects/{project}/uploads", json=begun)
    assert (again["id"], again["received"]) == (first["id"], 5000)
    done = browser.ask("PUT", f"/api/uploads/{first['id']}/5000", data=content[5000:])
    browser.work()
    stored = browser.ask("GET", f"/api/clips/{done['clip']}")
    assert stored["info"]["frames"] == 90


def test_the_same_content_twice_is_recognised(browser: Browser, clip: int, project: int, shaky) -> None:
    browser.upload(project, shaky[0], "copy_of_it.mp4")
    browser.work()
    card = browser.ask("GET", f"/api/projects/{project}/clips")[1]
    assert card["state"] == "failed"
    assert "already on the shelf as shaky.mp4" in card["error"]


def test_the_same_content_on_another_shelf_is_copied_once(
    browser: Browser, clip: int, shaky, monkeypatch: pytest.MonkeyPatch
) -> None:
    ingest = import_module("keen_horizon.jobs.kinds.ingest")
    monkeypatch.setattr(ingest, "make_proxy", None)  # whoever calls it fails
    elsewhere = browser.ask("POST", "/api/projects", json={"name": "Short cut"})["id"]
    again = browser.upload(elsewhere, shaky[0], "same.mp4")
    browser.work()
    first, second = (browser.ask("GET", f"/api/clips/{number}") for number in (clip, again))
    assert second["name"] == "same.mp4"
    assert second["info"] == first["info"]
    assert second["proxy"] == first["proxy"] | {"url": f"/media/clips/{again}/proxy.mp4"}
    browser.ask("DELETE", f"/api/clips/{clip}")
    assert browser.client.get(f"/media/clips/{again}/proxy.mp4").status_code == 200
    assert browser.picture(again, frame=3).shape == (360, 640, 3)


def test_motion_that_another_shelf_knows_is_not_measured_again(
    browser: Browser, clip: int, shaky, monkeypatch: pytest.MonkeyPatch
) -> None:
    treatment = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    browser.ask("POST", f"/api/clips/{clip}/measure", json=treatment)
    browser.work()
    elsewhere = browser.ask("POST", "/api/projects", json={"name": "Short cut"})["id"]
    again = browser.upload(elsewhere, shaky[0], "same.mp4")
    browser.work()
    finding = import_module("keen_horizon.jobs.kinds.finding")
    with monkeypatch.context() as patched:
        patched.setattr(finding, "measure_clip", None)  # whoever calls it fails
        browser.ask("POST", f"/api/clips/{again}/measure", json=treatment)
        browser.work()
    first, second = (browser.ask("POST", f"/api/clips/{number}/solve", json=treatment) for number in (clip, again))
    assert second["measured"]
    assert second["ledger"] == first["ledger"]
    known = browser.ask("GET", f"/api/clips/{again}")
    assert known["measured"] == [[0, 89]]
    assert known["measuring_rate"] == browser.ask("GET", f"/api/clips/{clip}")["measuring_rate"]

    part = treatment | {"range": {"in": 20, "out": 60}}  # another range is measured by itself
    elsewhere_again = browser.ask("POST", "/api/projects", json={"name": "Shorter cut"})["id"]
    third = browser.upload(elsewhere_again, shaky[0], "part.mp4")
    browser.work()
    browser.ask("POST", f"/api/clips/{third}/measure", json=part)
    browser.work()
    assert browser.ask("GET", f"/api/clips/{third}")["measured"] == [[20, 60]]


def test_names_are_never_paths(browser: Browser, project: int, shaky: tuple[Path, Similarities]) -> None:
    number = browser.upload(project, shaky[0], "../../etc/evil.mp4")
    browser.work()
    assert browser.ask("GET", f"/api/clips/{number}")["name"] == "evil.mp4"
    refused = browser.ask("POST", f"/api/projects/{project}/media", 400, json={"path": "../../etc/passwd"})
    assert "inside the media folder" in refused["error"]


def test_media_folder_files_are_used_where_they_lie(browser: Browser, project: int, shaky) -> None:
    before = shaky[0].read_bytes()
    card = browser.ask("POST", f"/api/projects/{project}/media", json={"path": "shaky.mp4"})
    browser.work()
    assert browser.ask("GET", f"/api/clips/{card['id']}")["info"]["frames"] == 90
    browser.ask("DELETE", f"/api/clips/{card['id']}")
    assert shaky[0].read_bytes() == before


@pytest.mark.parametrize(
    "content", [b"hello, I am not a film", b"#EXTM3U\nfile:///etc/passwd\n", b"\0\0\0\x18ftypmp42" + b"\0" * 90]
)
def test_bad_files_say_so_on_their_card_and_can_be_tried_again(
    browser: Browser, project: int, tmp_path, content
) -> None:
    (tmp_path / "odd.mp4").write_bytes(content)
    number = browser.upload(project, tmp_path / "odd.mp4")
    browser.work()
    card = browser.ask("GET", f"/api/projects/{project}/clips")[0]
    assert card["state"] == "failed"
    assert "odd.mp4" in card["error"]
    assert browser.client.get(f"/clips/{number}").status_code == 400
    browser.ask("POST", f"/api/clips/{number}/retry")
    browser.work()
    assert browser.ask("GET", f"/api/projects/{project}/clips")[0]["state"] == "failed"


def test_a_vanished_file_fails_the_job_with_its_name(browser: Browser, project: int, shaky, media: Path) -> None:
    lost = media / "lost.mp4"
    lost.write_bytes(shaky[0].read_bytes())
    card = browser.ask("POST", f"/api/projects/{project}/media", json={"path": "lost.mp4"})
    browser.work()
    lost.unlink()
    draft = browser.ask("GET", f"/api/clips/{card['id']}")["draft"]
    work = browser.ask("POST", f"/api/clips/{card['id']}/measure", json=draft)["work"]
    browser.work()
    failed = browser.ask("GET", f"/api/projects/{project}/clips")[0]["failed"]
    assert "lost.mp4" in failed["error"]
    lost.write_bytes(shaky[0].read_bytes())
    browser.ask("POST", f"/api/works/{work['id']}/retry")
    browser.work()
    assert browser.ask("GET", f"/api/clips/{card['id']}")["measured"] == [[0, 89]]


def test_waiting_work_can_be_cancelled(browser: Browser, clip: int) -> None:
    draft = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    work = browser.ask("POST", f"/api/clips/{clip}/measure", json=draft)["work"]
    assert browser.ask("POST", f"/api/works/{work['id']}/cancel")["state"] == "cancelled"
    browser.work()
    assert browser.ask("GET", f"/api/clips/{clip}")["measured"] == []
    assert "already ended" in browser.ask("POST", f"/api/works/{work['id']}/cancel", 400)["error"]


def test_draft_is_checked_and_kept(browser: Browser, clip: int) -> None:
    draft = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    draft["motion"]["response_s"] = 1.5
    browser.ask("PUT", f"/api/clips/{clip}/draft", json=draft)
    assert browser.ask("GET", f"/api/clips/{clip}")["draft"]["motion"]["response_s"] == 1.5
    draft["motion"]["haste"] = 1
    assert "motion.haste" in browser.ask("PUT", f"/api/clips/{clip}/draft", 400, json=draft)["error"]
    assert browser.ask("PUT", f"/api/clips/{clip}/draft", 400, json=None)["error"]


def test_stills_show_the_exact_frame(browser: Browser, clip: int) -> None:
    draft = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    browser.ask("POST", f"/api/clips/{clip}/measure", json=draft)
    browser.work()
    before, after = browser.picture(clip, frame=40), browser.picture(clip, frame=40, treatment=draft)
    assert before.shape == after.shape == (360, 640, 3)
    assert np.abs(before.astype(int) - after).mean() > 2
    assert np.array_equal(browser.picture(clip, frame=40, treatment=draft), after)
    page = browser.client.get(f"/clips/{clip}/report?frame=40").text
    shown = [browser.client.get(unescape(address)).data for address in re.findall('<img src="([^"]+)', page)]
    assert [np.array_equal(cv2.imdecode(np.frombuffer(jpeg, np.uint8), 1), picture)
            for jpeg, picture in zip(shown, (before, after), strict=True)] == [True, True]  # fmt: skip
    light = {"coefficients": [-0.5], "dead_radius": 0.9}
    draft["optics"] |= {"falloff": light, "fringe": {"red": [0.002, 0], "blue": [0, 0]}}
    browser.ask("PUT", f"/api/clips/{clip}/draft", json=draft)
    page = browser.client.get(f"/clips/{clip}/report?frame=40").text
    for said in ("1.00 stops, their noise too", "dead corners hidden at", "+0.73, +0.00 px at a corner"):
        assert said in page


def test_removed_clips_leave_no_file(browser: Browser, clip: int) -> None:
    files = browser.services.files
    with browser.services.session() as session:
        tidy(session, files)
        assert files.sweep(used_keys(session), files.identity(), spare_s=-1).quarantined == 0
    browser.ask("DELETE", f"/api/clips/{clip}")
    with browser.services.session() as session:
        assert files.sweep(used_keys(session), files.identity(), spare_s=-1).quarantined == 4
    assert browser.ask("DELETE", f"/api/clips/{clip}", 404)["error"]


def test_too_large_uploads_are_refused_before_they_start(browser: Browser, project: int) -> None:
    answer = browser.ask("POST", f"/api/projects/{project}/uploads", 400, json={"name": "big.mp4", "size": 1 << 39})
    assert "big.mp4 needs" in answer["error"]
