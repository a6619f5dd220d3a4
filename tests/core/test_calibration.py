"""Lenses from printed boards: simulated ones, whose lens is known, and the page that is printed."""

from __future__ import annotations

import re

import cv2
import numpy as np
import pytest
from glass import board_poses, filmed_board, seen_at

from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.board import board_svg
from keen_horizon.core.lens.calibration import Board, View, calibrate, seen_board, varied
from keen_horizon.core.lens.lens import Lens, fields_of_view, fisheye_of
from keen_horizon.core.lens.over_time import lens_of

SIZE = Size(720, 405)
BOARD = Board("chessboard", 9, 6)
DOTS = Board("dots", 9, 6)
FISHEYE = fisheye_of("equidistant", 120)


@pytest.mark.parametrize("board", [BOARD, DOTS], ids=["chessboard", "dots"])
def test_a_filmed_board_tells_the_lens(board: Board) -> None:
    """Bar 8: the field of view within 0.5 %, corners no more than 0.1 px above how exactly they are found."""
    random = np.random.default_rng(2)
    views, noise = [], []
    for number, (turn, shift) in enumerate(board_poses(12, 5)):
        view = seen_board(filmed_board(FISHEYE, SIZE, board, turn, shift, random), board, number)
        if view is not None:
            views.append(view)
            middle = [(board.across - 1) / 2, (board.down - 1) / 2, 0]
            true = seen_at(FISHEYE, turn.apply(board.points() - middle) + shift, SIZE)
            noise.append(min(np.square(places - true).sum(1).mean() for places in (view.places, view.places[::-1])))
    assert len(views) >= 6
    found = calibrate(views, board, SIZE)
    fields = fields_of_view(lens_of(found.lens), SIZE, found.focal)
    assert fields is not None
    print(f"{board.kind}: {fields[2]:.2f} degrees of 120, {found.error_px:.3f} px, noise {np.sqrt(np.mean(noise)):.3f}")
    assert fields[0] == pytest.approx(fields_of_view(FISHEYE, SIZE)[0], rel=0.005)  # type: ignore[index]
    assert found.error_px <= np.sqrt(np.mean(noise)) + 0.1


def exact(lens: Lens, count: int, noise: float, seed: int) -> list[View]:
    """Where a lens shows the corners, with noise, for boards that are seen whole."""
    random, views = np.random.default_rng(seed), []
    for turn, shift in board_poses(400, seed):
        middle = [(BOARD.across - 1) / 2, (BOARD.down - 1) / 2, 0]
        points = turn.apply(BOARD.points() - middle) + shift
        focal = 0.55 * SIZE.half_diagonal
        straight = points[:, :2] / points[:, 2:] * focal + (SIZE.centre.real, SIZE.centre.imag)
        places = lens.bend(straight, SIZE)
        if (places > 5).all() and (places < (SIZE.width - 5, SIZE.height - 5)).all():
            views.append(View(len(views), (places + random.normal(0, noise, places.shape)).astype(np.float32)))
        if len(views) == count:
            break
    return views


def test_a_plain_lens_is_told_as_a_polynomial_and_bad_views_are_left_out() -> None:
    lens = Lens("polynomial", (-0.09, 0.015), 0.01 + 0.005j)
    views = exact(lens, 16, 0.1, 3)
    views[4] = View(
        4, views[4].places + np.random.default_rng(1).normal(0, 4, views[4].places.shape).astype(np.float32)
    )
    found = calibrate(views, BOARD, SIZE)
    assert found.rejected == (4,)
    assert found.lens.family == "polynomial"
    assert found.focal == pytest.approx(0.55, rel=0.005)
    assert found.error_px <= 0.1 * np.sqrt(2) + 0.1


def test_too_few_views_are_refused_and_alike_ones_thinned() -> None:
    views = exact(Lens("polynomial", (-0.09, 0.015)), 12, 0.1, 3)
    with pytest.raises(LensError, match=r"seen whole on 3 frames, 4 are needed.*inner corners"):
        calibrate(views[:3], BOARD, SIZE)
    assert len(varied(views * 5, 10)) == 10
    assert seen_board(np.full((405, 720), 128, np.uint8), BOARD, 0) is None


@pytest.mark.parametrize("board", [BOARD, DOTS], ids=["chessboard", "dots"])
def test_the_printed_board_is_what_is_looked_for(board: Board) -> None:
    page = np.full((1050, 1485), 255, np.uint8)
    drawing = board_svg(board)
    for shape, values in re.findall(r"<(rect|circle) ([^>]*)/>", drawing)[1:]:
        figures = {key: float(value) * 5 for key, value in re.findall(r'(\w+)="([\d.]+)"', values)}
        if shape == "rect":
            left, top = figures["x"], figures["y"]
            right, foot = left + figures["width"], top + figures["height"]
            cv2.rectangle(page, (round(left), round(top)), (round(right) - 1, round(foot) - 1), 0, -1)
        else:
            cv2.circle(page, (round(figures["cx"]), round(figures["cy"])), round(figures["r"]), 0, -1, cv2.LINE_AA)
    view = seen_board(page, board, 0)
    assert view is not None
    assert len(view.places) == 54
    steps = np.linalg.norm(np.diff(view.places.reshape(6, 9, 2), axis=1), axis=2)
    assert np.ptp(steps) < 2.0
