"""The command line: documents, exit codes, one clear line."""

from __future__ import annotations

import csv
import json
import subprocess
from pathlib import Path

import cv2
import numpy as np
import pytest
from truth import SMALL

from keen_horizon.cli import main
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.transfer import coded_srgb
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import darkened
from keen_horizon.simulator.plane import shaken_pictures


def test_measure_then_correct(tmp_path: Path, shaky: tuple[Path, Similarities]) -> None:
    clip = str(shaky[0])
    assert main(["measure", clip, "--out", str(tmp_path / "m.npz"), "--json", str(tmp_path / "m.json")]) == 0
    assert main(["measure", clip, "--out", str(tmp_path / "f.npz"), "--finer"]) == 0
    usual, finer = (np.median(Measurement.load(tmp_path / f"{name}.npz").tracked) for name in "mf")
    assert finer > 1.5 * usual
    motion = json.loads((tmp_path / "m.json").read_text())
    assert (motion["width"], motion["height"], motion["frames"], len(motion["pairs"])) == (640, 360, 90, 89)
    assert set(motion["pairs"][0]) == {"from", "to", "matrix", "inliers", "tracked", "confidence"}
    (tmp_path / "t.json").write_text(json.dumps({"motion": {"intent": "hold"}, "edges": {"zoom_limit": 1.4}}))
    arguments = ["correct", clip, str(tmp_path / "o.mp4"), "--treatment", str(tmp_path / "t.json")]
    arguments += ["--measurement", str(tmp_path / "m.npz"), "--report", str(tmp_path / "r.json")]
    assert main([*arguments, "--path", str(tmp_path / "p.json")]) == 0
    report = json.loads((tmp_path / "r.json").read_text())
    assert report["gap_pixels"] == 0
    assert 1 < report["zoom"] <= 1.4
    assert report["shake_after_px"] < 0.01 * report["shake_before_px"]
    assert report["output"] == {"width": 640, "height": 360, "codec": "h264", "pix_fmt": "yuv420p"}
    path = json.loads((tmp_path / "p.json").read_text())["frames"]
    assert [row["frame"] for row in path] == list(range(90))
    assert abs(np.linalg.det(np.array(path[40]["matrix"])[:2, :2]) - report["zoom"] ** 2) < 0.1
    assert probe(tmp_path / "o.mp4")[0].frames == 90


def test_glass_is_measured_or_it_says_why_not(
    tmp_path: Path, shaky: tuple[Path, Similarities], capsys: pytest.CaptureFixture[str]
) -> None:
    poses = shaky[1]
    far = Similarities(poses.z, poses.t + 140 * np.sin(np.linspace(0, 6, len(poses))))
    for name, moves in (("pan.mp4", far), ("still.mp4", Similarities.identity(12))):
        seen = darkened(shaken_pictures(moves, SMALL), SMALL, Falloff((-0.5,)))
        write_pictures(seen, SMALL, 30, tmp_path / name, quality=16)
    (tmp_path / "t.json").write_text(json.dumps({"optics": {"falloff": {"coefficients": [0], "amount": 0.8}}}))
    arguments = ["glass", str(tmp_path / "pan.mp4"), str(tmp_path / "g.json"), "--treatment", str(tmp_path / "t.json")]
    assert main(arguments) == 0
    falloff = json.loads((tmp_path / "g.json").read_text())["optics"]["falloff"]
    assert abs(sum(falloff["coefficients"]) + 0.5) < 0.03
    assert falloff["amount"] == 0.8
    assert "c1 ±" in capsys.readouterr().err
    assert main(["glass", str(tmp_path / "still.mp4"), str(tmp_path / "s.json")]) == 1
    assert "still.mp4: it does not tell how light falls off" in capsys.readouterr().err
    assert not (tmp_path / "s.json").exists()


def test_glass_is_measured_by_a_plain_wall(
    tmp_path: Path, shaky: tuple[Path, Similarities], capsys: pytest.CaptureFixture[str]
) -> None:
    x, y = np.meshgrid(np.arange(SMALL.width), np.arange(SMALL.height))
    places = (x + 1j * y - SMALL.centre) / SMALL.half_diagonal
    light = 0.5 * Falloff((-0.4, 0.05)).gain(np.abs(places) ** 2) * DeadEdge(0.9, 0.03j, softness=0.02).light(places)
    wall = np.rint(65535 * coded_srgb(light.astype(np.float32))).astype(np.uint16)
    wall = np.repeat(wall[..., None], 3, 2)
    cv2.imwrite(str(tmp_path / "wall.png"), wall)
    arguments = ["glass", str(shaky[0]), str(tmp_path / "g.json"), "--flat", str(tmp_path / "wall.png")]
    assert main(arguments) == 0
    falloff = json.loads((tmp_path / "g.json").read_text())["optics"]["falloff"]
    assert falloff["dead_edge"]["radius"] == pytest.approx(0.9, abs=0.01)
    assert falloff["dead_radius"] == pytest.approx(0.9, abs=0.01)
    told = capsys.readouterr().err
    assert "of the light arrives at the corners" in told
    assert "No light arrives beyond a circle" in told
    cv2.imwrite(str(tmp_path / "night.png"), wall // 200)
    assert main([*arguments[:4], str(tmp_path / "night.png")]) == 1
    assert "night.png: it does not tell how light falls off" in capsys.readouterr().err
    cv2.imwrite(str(tmp_path / "square.png"), wall[:, :360])
    assert main([*arguments[:4], str(tmp_path / "square.png")]) == 1
    assert "square.png: it is 1.000 times as wide as tall" in capsys.readouterr().err
    (tmp_path / "broken.png").write_bytes(b"no picture")
    assert main([*arguments[:4], str(tmp_path / "broken.png")]) == 1
    assert "broken.png: no picture of 8 or 16 bits" in capsys.readouterr().err


def test_path_as_csv(tmp_path: Path, shaky: tuple[Path, Similarities]) -> None:
    (tmp_path / "t.json").write_text(json.dumps({"range": {"in": 10, "out": 19}}))
    arguments = ["correct", str(shaky[0]), str(tmp_path / "o.mp4"), "--treatment", str(tmp_path / "t.json")]
    assert main([*arguments, "--path", str(tmp_path / "p.csv")]) == 0
    rows = list(csv.DictReader((tmp_path / "p.csv").open()))
    assert [int(row["frame"]) for row in rows] == list(range(10, 20))
    assert float(rows[0]["m22"]) == 1.0


def test_what_could_not_be_done_is_said(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_pictures(
        (np.full((90, 160, 3), 120, np.uint8) for _ in range(4)), Size(160, 90), 30, tmp_path / "sky.mp4", quality=20
    )
    arguments = ["correct", str(tmp_path / "sky.mp4"), str(tmp_path / "o.mp4"), "--report", str(tmp_path / "r.json")]
    assert main(arguments) == 0
    (note,) = json.loads((tmp_path / "r.json").read_text())["notes"]
    assert note == "Nothing could be followed in any frame, so nothing is steadied."
    assert capsys.readouterr().err.splitlines() == [f"sky.mp4: {note}", "sky.mp4: Kept: 4:2:0 at 8 bits."]


def test_failures_are_one_line_and_exit_1(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "x.mp4").write_text("not a film")
    assert main(["measure", str(tmp_path / "x.mp4"), "--out", str(tmp_path / "m.npz")]) == 1
    said = capsys.readouterr().err.strip()
    assert said.count("\n") == 0
    assert "x.mp4" in said
    assert not (tmp_path / "m.npz").exists()


def test_broken_documents_and_missing_folders_are_told_at_once(
    tmp_path: Path, shaky: tuple[Path, Similarities], capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "t.json").write_text("{")
    arguments = ["correct", str(shaky[0]), str(tmp_path / "o.mp4")]
    assert main([*arguments, "--treatment", str(tmp_path / "t.json")]) == 1
    assert "t.json: this is not a JSON document" in capsys.readouterr().err
    assert main([*arguments, "--report", str(tmp_path / "nowhere" / "r.json")]) == 1
    assert "Make it first" in capsys.readouterr().err
    assert not (tmp_path / "o.mp4").exists()


def test_a_file_that_breaks_off_is_corrected_as_far_as_it_goes(
    tmp_path: Path, shaky: tuple[Path, Similarities], ffmpeg: str, capsys: pytest.CaptureFixture[str]
) -> None:
    whole, broken = tmp_path / "whole.mp4", tmp_path / "broken.mp4"
    subprocess.run([ffmpeg, "-v", "error", "-i", shaky[0], "-c", "copy", "-movflags", "faststart", whole], check=True)
    broken.write_bytes(whole.read_bytes()[: whole.stat().st_size * 2 // 3])
    out, report = tmp_path / "o.mp4", tmp_path / "r.json"
    treatment = tmp_path / "t.json"
    treatment.write_text('{"motion": {"intent": "hold"}, "edges": {"zoom_limit": 1.02, "window": {"x": 40}}}')
    assert main(["correct", str(broken), str(out), "--treatment", str(treatment), "--report", str(report)]) == 0
    said = capsys.readouterr().err
    frames = probe(out)[0].frames
    assert 8 < frames < 90
    assert f"broken.mp4: The file breaks off: {frames} of its 90 frames" in said
    assert "The limit holds it to 1.02" in said
    assert f"The window as it was moved leaves a gap in frames 0-{frames - 1}" in said
    assert len(json.loads(report.read_text())["notes"]) >= 2


@pytest.mark.parametrize(
    "command",
    [
        ["correct", "CLIP", "CLIP"],
        ["correct", "CLIP", "other.mp4", "--report", "CLIP"],
        ["measure", "CLIP", "--out", "CLIP"],
        ["lens", "CLIP", "CLIP"],
        ["glass", "CLIP", "CLIP"],
        ["overlay", "other.mp4", "CLIP", "CLIP", "--treatment", "t.json"],
        ["join", "CLIP", "other.mp4", "--out", "CLIP"],
        ["edit", "CLIP", "CLIP", "--media", ".", "--into", "."],
        ["correct", "other.mp4", "new.mp4", "--treatment", "CLIP", "--report", "CLIP"],
        ["correct", "other.mp4", "new.mp4", "--measurement", "CLIP", "--path", "CLIP"],
        ["measure", "other.mp4", "--out", "new.npz", "--treatment", "CLIP", "--json", "CLIP"],
        ["glass", "other.mp4", "CLIP", "--flat", "CLIP"],
        ["lens", "other.mp4", "CLIP", "--profile", "CLIP"],
        ["edit", "other.otio", "CLIP", "--media", ".", "--into", ".", "--treatment", "CLIP"],
    ],
    ids=lambda command: f"{command[0]} {command[-2]}",
)
def test_what_a_result_is_made_of_is_never_overwritten(
    shaky: tuple[Path, Similarities], command: list[str], capsys: pytest.CaptureFixture[str]
) -> None:
    before = shaky[0].read_bytes()
    assert main([str(shaky[0]) if word == "CLIP" else word for word in command]) == 1
    assert f"{shaky[0].name}: this would overwrite what it is made of" in capsys.readouterr().err
    assert shaky[0].read_bytes() == before


def test_two_results_never_share_a_file(shaky: tuple[Path, Similarities], capsys: pytest.CaptureFixture[str]) -> None:
    both = str(shaky[0].with_name("both.json"))
    assert main(["measure", str(shaky[0]), "--out", both, "--json", both]) == 1
    assert "both.json: two results would be written into it" in capsys.readouterr().err


def test_wrong_usage_exits_2() -> None:
    with pytest.raises(SystemExit) as ended:
        main(["straighten"])
    assert ended.value.code == 2
