"""Lenses from the command line: by straightedges, a filmed board, a file, and what is said where none is found."""

from __future__ import annotations

import json
from pathlib import Path

import cv2
import numpy as np
import pytest
from glass import RULED_LENS, RULED_SIZE, board_poses, filmed_board, ruled_line, ruled_picture

from keen_horizon.cli import main
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.core.lens.calibration import Board
from keen_horizon.core.lens.lens import fields_of_view
from keen_horizon.core.lens.over_time import lens_of
from keen_horizon.core.lens.profile import starters
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import fringed


@pytest.fixture(scope="module")
def ruled(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A short clip of ruled lines bent by RULED_LENS."""
    clip = tmp_path_factory.mktemp("ruled") / "ruled.mp4"
    write_pictures((ruled_picture(RULED_LENS, RULED_SIZE) for _ in range(4)), RULED_SIZE, 24, clip, quality=10)
    return clip


def written(path: Path) -> Treatment:
    """The treatment that a command wrote."""
    return Treatment.from_json(json.loads(path.read_text()))


def test_straightedges_of_a_document_tell_the_lens(
    ruled: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    lines = [ruled_line(RULED_LENS, RULED_SIZE, offset, 6) for offset in (-2, 2)]
    edges = [{"frame": 0, "points": line.round(2).tolist()} for line in lines]
    (tmp_path / "t.json").write_text(json.dumps({"optics": {"straightedges": edges}, "motion": {"intent": "hold"}}))
    arguments = ["lens", str(ruled), str(tmp_path / "found.json"), "--treatment", str(tmp_path / "t.json")]
    assert main(arguments) == 0
    said = capsys.readouterr().err
    found = written(tmp_path / "found.json")
    assert found.motion.intent == "hold"
    straight = lens_of(found.optics.lens).straighten(lines[1], RULED_SIZE)
    assert np.ptp(straight[:, 1]) < 1.0
    assert "ruled.mp4: line 2: 0.0" in said
    assert "one more line, anywhere near that between" in said
    (tmp_path / "t.json").write_text(json.dumps({"optics": {"straightedges": [{"frame": 0, "points": [[1, 1]]}]}}))
    assert main(arguments) == 1
    assert "ruled.mp4: A straightedge needs three points" in capsys.readouterr().err


def test_a_filmed_board_tells_the_lens_and_its_angles(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    size, random = Size(720, 404), np.random.default_rng(2)
    shots = [filmed_board(RULED_LENS, size, Board("chessboard", 9, 6), *pose, random) for pose in board_poses(7, 5)]
    clip = tmp_path / "board.mp4"
    write_pictures((cv2.cvtColor(shot, cv2.COLOR_GRAY2BGR) for shot in shots), size, 12, clip, quality=8)
    assert main(["lens", str(clip), str(tmp_path / "found.json"), "--board", "chessboard"]) == 0
    lens = lens_of(written(tmp_path / "found.json").optics.lens)
    assert fields_of_view(lens, size)[2] == pytest.approx(fields_of_view(RULED_LENS, size)[2], rel=0.005)
    assert "views of the board" in capsys.readouterr().err
    assert main(["lens", str(clip), str(tmp_path / "x.json"), "--board", "dots", "--across", "2"]) == 1
    assert "A board has 3 inner corners" in capsys.readouterr().err
    assert not (tmp_path / "x.json").exists()


def test_a_filmed_board_tells_the_fringes_too(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    size, random = Size(800, 450), np.random.default_rng(2)
    glass = Fringe((0.004, 0.0), (-0.004, 0.0), 0.02 - 0.015j)
    shots = [filmed_board(RULED_LENS, size, Board("chessboard", 9, 6), *pose, random) for pose in board_poses(13, 5)]
    pictures = (cv2.cvtColor(cv2.GaussianBlur(shot, (0, 0), 0.8), cv2.COLOR_GRAY2BGR) for shot in shots)
    clip = tmp_path / "board.mp4"
    write_pictures(fringed(pictures, size, glass), size, 12, clip, quality=12)
    assert main(["lens", str(clip), str(tmp_path / "found.json"), "--board", "chessboard"]) == 0
    assert "At the corners red lies +1" in capsys.readouterr().err
    found = written(tmp_path / "found.json").optics.fringe
    half = size.half_diagonal
    told = Fringe(found.red, found.blue, complex(found.centre_x, found.centre_y)).at_corner(half)
    assert told == pytest.approx(glass.at_corner(half), abs=0.2)


def test_a_profile_is_taken_from_its_file(ruled: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    profile = starters()[0].model_copy(update={"focal": 0.9})
    (tmp_path / "profile.json").write_text(json.dumps(profile.to_json()))
    arguments = ["lens", str(ruled), str(tmp_path / "found.json"), "--profile", str(tmp_path / "profile.json")]
    assert main(arguments) == 0
    optics = written(tmp_path / "found.json").optics
    assert (optics.lens, optics.focal) == (profile.lens, 0.9)
    (tmp_path / "profile.json").write_text(json.dumps(profile.to_json() | {"height": 1080, "width": 1080}))
    assert main(arguments) == 1
    assert "Choose a profile of the same aspect." in capsys.readouterr().err


def test_what_is_straight_in_a_clip_tells_its_lens_or_it_is_refused(
    ruled: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(["lens", str(ruled), str(tmp_path / "found.json")]) == 0
    optics = written(tmp_path / "found.json").optics
    straight = lens_of(optics.lens).straighten(ruled_line(RULED_LENS, RULED_SIZE, 2), RULED_SIZE)
    assert np.ptp(straight[:, 1]) < 2.0
    assert f"Found by {len(optics.straightedges)} edges that agree" in capsys.readouterr().err
    grey = (np.full((90, 160, 3), 120, np.uint8) for _ in range(4))
    write_pictures(grey, Size(160, 90), 30, tmp_path / "sky.mp4", quality=20)
    assert main(["lens", str(tmp_path / "sky.mp4"), str(tmp_path / "none.json")]) == 1
    assert "sky.mp4: There are too few long edges" in capsys.readouterr().err
    assert not (tmp_path / "none.json").exists()
