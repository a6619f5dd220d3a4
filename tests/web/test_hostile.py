"""Numbers, names and documents that nobody means: each gets a clear answer, and the server stays."""

from __future__ import annotations

import json
import re
from pathlib import Path
from urllib.parse import quote

import pytest
from applications import Browser
from hostile import hand_made_lens_files, rich_treatment, treatments

from keen_horizon.core.lens.exchange.files import FORMS
from keen_horizon.store.models import StoredProfile


@pytest.fixture
def measured(browser: Browser, clip: int) -> int:
    browser.ask("POST", f"/api/clips/{clip}/measure", json={})
    browser.work()
    return clip


def long_treatment() -> dict:
    """Four straightedges of twelve points: more than an address may hold, and less than editors draw."""
    treatment = rich_treatment() | {"range": None}
    treatment["optics"]["flat"] = None
    treatment["optics"]["straightedges"] = [
        {"frame": 4, "points": [[20.123456789 + 45.987654321 * i, 30.5 + 70 * line + i * i] for i in range(12)]}
        for line in range(4)
    ]
    return treatment


def test_long_treatments_travel_in_bodies(browser: Browser, measured: int) -> None:
    treatment = long_treatment()
    assert len(quote(json.dumps(treatment))) > 4094  # where servers end an address
    browser.ask("PUT", f"/api/clips/{measured}/draft", json=treatment)
    assert browser.picture(measured, frame=30, treatment=treatment, part=[0, 0, 100, 60]).shape == (60, 100, 3)
    assert browser.save(f"/api/clips/{measured}/data/path.csv", treatment).text.startswith("frame,time,m00")
    page = browser.client.get(f"/clips/{measured}/report?frame=30").text
    addresses = [found.replace("&amp;", "&") for found in re.findall('<img src="([^"]+)', page)]
    assert len(addresses) == 2
    for address in addresses:
        assert len(address) < 200
        assert browser.client.get(address).data[:2] == b"\xff\xd8"


@pytest.mark.parametrize(
    "question",
    [
        {"frame": 3, "part": [1e308, 0, 100, 100]},
        {"frame": 3, "part": [float("nan"), 0, 100, 100]},
        {"frame": 3, "part": [0, 0, 10**9, 10**9]},
        {"frame": -1},
        {"frame": 10**12},
        {"frame": 90},
        {"frame": "x"},
        {"frame": 3, "treatment": {"motion": {"ease": [{"frame": 10**26, "width": 4}]}}},
    ],
)
def test_stills_take_no_number_that_makes_no_picture(browser: Browser, clip: int, question: dict) -> None:
    assert browser.save(f"/api/clips/{clip}/stills", question, 400).json["error"]


def test_a_frame_past_the_end_is_named(browser: Browser, clip: int) -> None:
    for what, question in (("stills", {"frame": 90}), ("snap", {"frame": 90, "x": 5, "y": 5})):
        error = browser.save(f"/api/clips/{clip}/{what}", question, 400).json["error"]
        assert error == "shaky.mp4: there is no frame 90; the last one is 89."
    assert "no frame 4000" in browser.client.get(f"/media/clips/{clip}/still.jpg?frame=4000").text


def test_numbers_larger_than_any_row(browser: Browser, clip: int) -> None:
    vast = 2**63
    for method, address in (
        ("GET", f"/api/clips/{vast}"), ("DELETE", f"/api/clips/{vast}"), ("PUT", f"/api/uploads/{vast}/{vast}"),
        ("POST", f"/api/works/{vast}/cancel"), ("DELETE", f"/api/starting-points/{vast}"),
        ("DELETE", f"/api/lens-profiles/{vast}"), ("POST", f"/api/projects/{vast}/uploads"),
    ):  # fmt: skip
        answer = browser.client.open(
            address, method=method, headers={"X-CSRFToken": browser.token}, json={"name": "a.mp4", "size": 5}
        )
        assert answer.status_code == 404, (address, answer.text)
    treatment = {"treatment": {}, "clips": [vast]}
    assert browser.ask("POST", f"/api/clips/{clip}/copies", 400, json=treatment)["error"]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('{"motion": {"response_s": NaN}}', "NaN is not a number"),
        ('{"motion": {"response_s": 1e999}}', "motion.response_s"),
        ('{"edges": {"zoom_limit": Infinity}}', "Infinity is not a number"),
        ('{"optics": ' * 5000, "nested too deep"),
        ('{"optics": ' * 5000 + "1" + "}" * 5000, "nested too deep"),
        ('{"a": "\\u0000"}', "characters that cannot be kept"),
        ("{", "not a JSON document"),
        ("", "not a JSON document"),
        ("5", "should be an object"),
        ('{"motion": {"ease": ' + json.dumps([{"frame": 3, "width": 4}] * 1001) + "}}", "at most 1000"),
    ],
)
def test_documents_gone_wrong_name_the_key(browser: Browser, clip: int, text: str, says: str) -> None:
    answer = browser.client.put(f"/api/clips/{clip}/draft", data=text, headers={"X-CSRFToken": browser.token})
    assert answer.status_code == 400
    assert says in answer.json["error"]


def test_random_treatments_are_solved_or_refused(browser: Browser, measured: int) -> None:
    """A small part of benchmarks/fuzz.py."""
    statuses = set()
    for number, text in enumerate(treatments(rich_treatment(), 60, seed=3)):
        address = f"/api/clips/{measured}/{('solve', 'versions')[number % 2]}"
        answer = browser.client.post(address, data=text, headers={"X-CSRFToken": browser.token})
        statuses.add(answer.status_code)
        assert answer.status_code in (200, 400), (number, text, answer.text)
        assert answer.is_json
    assert 200 in statuses


def test_lens_files_made_by_hand_are_read_or_refused_by_name(browser: Browser) -> None:
    for name, content in hand_made_lens_files():
        address = f"/api/lens-profiles/files/{name}"
        answer = browser.client.post(address, data=content, headers={"X-CSRFToken": browser.token})
        assert answer.status_code in (200, 400), (name, answer.text)
        if answer.status_code == 400:
            assert name.partition(".")[0] in answer.json["error"] or "Lens profile" in answer.json["error"], (
                name,
                answer.text,
            )
    assert len(browser.ask("GET", "/api/lens-profiles")) > 3


@pytest.mark.parametrize("name", ["港の船", "Pîer “7”", "Кран"])
def test_names_outside_latin_1_come_down_whole(browser: Browser, project: int, shaky, name: str) -> None:
    clip = browser.upload(project, shaky[0], f"{name}.mp4")
    browser.work()
    treatment = browser.ask("GET", f"/api/clips/{clip}")["draft"] | {"range": {"in": 0, "out": 9}}
    browser.ask("POST", f"/api/clips/{clip}/renders", json=treatment)
    browser.work()
    render = browser.ask("GET", f"/api/clips/{clip}")["renders"][0]
    answers = [browser.client.get(render[key]) for key in ("file", "path_json", "path_csv", "transforms_csv")]
    answers += [browser.save(f"/api/clips/{clip}/data/path.csv", treatment)]
    for answer in answers:
        assert answer.status_code == 200
        assert "filename*=UTF-8''" in answer.headers["Content-Disposition"]


def test_profiles_of_any_name_come_down(browser: Browser, clip: int) -> None:
    lens = {"family": "division", "coefficients": [-0.1]}
    listed = browser.ask("POST", "/api/lens-profiles", json={"name": "魚眼\n“x”", "clip": clip, "lens": lens})
    mine = next(profile for profile in listed if not profile["shipped"])
    assert mine["document"]["name"] == "魚眼 “x”"
    for form in FORMS:
        answer = browser.client.get(f"/media/lens-profiles/{mine['id']}/{form}")
        assert answer.status_code in (200, 400), answer.text
    with browser.services.session() as session:
        assert session.get_one(StoredProfile, mine["id"]).name == "魚眼 “x”"


def test_files_of_the_media_folder_whose_names_cannot_be_kept(browser: Browser, project: int, media: Path) -> None:
    odd = media / b"pier\xff.mp4".decode("utf-8", "surrogateescape")
    odd.write_bytes(b"x")
    try:
        assert browser.client.get(f"/projects/{project}").status_code == 200
        refused = browser.ask("POST", f"/api/projects/{project}/media", 400, json={"path": "pier\udcff.mp4"})
        assert "Rename it" in refused["error"]
    finally:
        odd.unlink()


def test_what_nobody_foresaw_is_logged_and_said(browser: Browser, project: int, monkeypatch, caplog) -> None:
    monkeypatch.setattr("keen_horizon.operations.clips.new_project", lambda *_: 1 / 0)
    answer = browser.ask("POST", "/api/projects", 500, json={"name": "x"})
    assert "the log has details" in answer["error"]
    assert "ZeroDivisionError" in caplog.text
