"""What the measurement believes, over HTTP: points, areas, and what was measured before that was told."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from applications import Browser

from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.operations.findings import MOTION
from keen_horizon.store.models import Finding

CORNER = [[0.0, 0.0], [120.0, 0.0], [120.0, 90.0], [0.0, 90.0]]


def measured(browser: Browser, clip: int) -> dict:
    """The clip's treatment, once its motion is measured."""
    treatment = browser.ask("GET", f"/api/clips/{clip}")["draft"]
    browser.ask("POST", f"/api/clips/{clip}/measure", json=treatment)
    browser.work()
    return treatment


def test_points_belief_and_an_area(browser: Browser, clip: int) -> None:
    treatment = measured(browser, clip)
    told = browser.ask("POST", f"/api/clips/{clip}/belief", json=treatment)
    assert told["known"]
    assert len(told["pairs"]) == 89
    assert told["confidence"] == 1.0
    assert told["asked"] is None
    block = browser.ask("POST", f"/api/clips/{clip}/points?first=10", json=treatment)
    assert (block["first"], block["frames"], block["areas"]) == (10, 79, [])
    assert block["starts"][-1] == len(block["x"]) == len(block["since"]) == len(block["off"])
    assert -2 not in block["layer"]
    assert np.median(block["off"]) < 0.5

    area = {"name": "bonnet", "keys": [{"frame": 0, "polygon": CORNER}]}
    ignoring = treatment | {"motion": treatment["motion"] | {"ignore": [area]}}
    block = browser.ask("POST", f"/api/clips/{clip}/points?first=10", json=ignoring)
    assert block["areas"][0][5] == CORNER
    inside = (np.array(block["x"]) < 100) & (np.array(block["y"]) < 70)
    assert inside.any()
    assert (np.array(block["layer"])[inside] == -2).all()
    assert browser.ask("POST", f"/api/clips/{clip}/solve", json=ignoring)["frames"] == 90
    for wrong in ({"keys": []}, {"keys": [{"frame": 0, "polygon": CORNER[:2]}]}):
        spoilt = treatment | {"motion": treatment["motion"] | {"ignore": [area | wrong]}}
        assert "motion.ignore.0" in browser.ask("POST", f"/api/clips/{clip}/belief", 400, json=spoilt)["error"]


def test_an_earlier_measurement_works_says_nothing_and_can_be_made_again(browser: Browser, clip: int) -> None:
    treatment = measured(browser, clip)
    files = browser.services.files
    with browser.services.session() as session:
        row = session.query(Finding).filter(Finding.kind == MOTION.kind).one()
        whole = Measurement.load(files.path(row.key or ""))
        none = whole.evidence.identity[:0]
        bare = replace(whole.evidence, identity=none, layer=none, weak=none.astype(bool))
        earlier = files.work_path("earlier.npz")
        replace(whole, confidence=None, evidence=bare).save(earlier)
        row.key = files.keep(earlier, ".npz")
    solved = browser.ask("POST", f"/api/clips/{clip}/solve", json=treatment)
    assert solved["measured"]
    assert not browser.ask("POST", f"/api/clips/{clip}/belief", json=treatment)["known"]
    assert browser.ask("POST", f"/api/clips/{clip}/measure?anew=yes", json=treatment)["work"]
    browser.work()
    assert browser.ask("POST", f"/api/clips/{clip}/belief", json=treatment)["known"]


def test_a_clip_is_measured_finer_and_stays_so(browser: Browser, clip: int) -> None:
    treatment = measured(browser, clip)
    before = browser.ask("GET", f"/api/clips/{clip}")
    assert (before["measured"], before["measured_finer"]) == ([[0, 89]], [])
    assert before["measuring_rate"] > 1
    usual = browser.ask("POST", f"/api/clips/{clip}/points?first=10", json=treatment)
    work = browser.ask("POST", f"/api/clips/{clip}/measure?finer=yes", json=treatment)["work"]
    assert browser.ask("POST", f"/api/clips/{clip}/measure?finer=yes", json=treatment)["work"]["id"] == work["id"]
    browser.work()
    after = browser.ask("GET", f"/api/clips/{clip}")
    assert (after["measured"], after["measured_finer"]) == ([[0, 89]], [[0, 89]])
    assert after["measuring_rate"] == before["measuring_rate"]
    finer = browser.ask("POST", f"/api/clips/{clip}/points?first=10", json=treatment)
    assert len(finer["x"]) > 1.5 * len(usual["x"])
    part = treatment | {"range": {"in": 20, "out": 60}}
    assert browser.ask("POST", f"/api/clips/{clip}/measure", json=part)["work"] is None
    browser.ask("POST", f"/api/clips/{clip}/measure?anew=yes", json=part)
    browser.work()
    again = browser.ask("POST", f"/api/clips/{clip}/points?first=20", json=part)
    assert len(again["x"]) > 1.5 * 41 / 79 * len(usual["x"])  # the finer one of the whole clip tells, not the part's
