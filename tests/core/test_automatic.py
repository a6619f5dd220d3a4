"""Lenses that the software finds by itself, on pictures whose lens is known; and its refusals."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from glass import bent_picture, straight_things

from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.automatic import Edge, automatic_lens, picture_edges
from keen_horizon.core.lens.edges import long_edges, nearest_edge
from keen_horizon.core.lens.lens import NO_LENS, Lens, fisheye_of
from keen_horizon.core.lens.straightedges import judged

SIZE = Size(1280, 720)


def street(random: np.random.Generator) -> np.ndarray:
    """House fronts seen askew: rows of windows, doors and cornices, with grain and round things among them."""
    picture = np.full((SIZE.height, SIZE.width), 205, np.uint8)
    left = 0
    while left < SIZE.width:
        wide, top = int(random.integers(170, 320)), int(random.integers(60, 220))
        cv2.rectangle(picture, (left, top), (left + wide - 8, SIZE.height - 70), int(random.integers(90, 180)), -1)
        for y in range(top + 40, SIZE.height - 190, 95):
            for x in range(left + 22, left + wide - 60, 66):
                cv2.rectangle(picture, (x, y), (x + 34, y + 56), int(random.integers(20, 60)), -1)
        left += wide
    for _ in range(12):
        place = tuple(int(v) for v in random.integers((0, 0), (SIZE.width, SIZE.height)))
        cv2.circle(picture, place, int(random.integers(12, 50)), int(random.integers(30, 220)), 5)
    corners = np.float32([[0, 0], [SIZE.width, 0], [SIZE.width, SIZE.height], [0, SIZE.height]])
    askew = cv2.getPerspectiveTransform(corners, corners + random.uniform(-60, 60, (4, 2)).astype(np.float32))
    seen = cv2.warpPerspective(picture, askew, (SIZE.width, SIZE.height), borderMode=cv2.BORDER_REPLICATE)
    soft = cv2.GaussianBlur(seen, (0, 0), 0.8)
    return np.clip(soft + random.normal(0, 2, soft.shape), 0, 255).astype(np.uint8)


def left_over(found: Lens, true: Lens) -> float:
    """RMS over true lines, px at 1000 px wide."""
    lines = straight_things(true, 40, np.random.default_rng(1), 9, size=SIZE)
    return float(np.sqrt((np.array(judged(found, lines, SIZE).residuals) ** 2).mean()) * 1000 / SIZE.width)


@pytest.mark.parametrize(
    "lens",
    [NO_LENS, Lens("division", (-0.3, 0.02)), fisheye_of("equidistant", 120), Lens("polynomial", (0.07, 0.0))],
    ids=["straight", "barrel", "fisheye", "pincushion"],
)  # fmt: skip
def test_a_street_tells_its_lens(lens: Lens) -> None:
    """Bar 3: what is accepted is within 2 px RMS at 1000 px, and nothing is made worse."""
    random = np.random.default_rng(3)
    edges: list[Edge] = []
    for frame in range(3):
        edges += picture_edges(bent_picture(street(random), lens), frame, SIZE)
    found = automatic_lens(edges, SIZE)
    error, plain = left_over(found.lens, lens), left_over(NO_LENS, lens)
    print(f"{error:.2f} px of {plain:.2f}, {len(found.edges)} edges, confidence {found.confidence:.2f}")
    assert error <= min(2.0, plain + 0.1)
    assert plain < 0.3 or error < 0.5 * plain
    assert 0 < found.confidence <= 1
    assert {edge.frame for edge in found.edges} == {0, 1, 2}


def test_where_nothing_is_straight_it_refuses() -> None:
    random = np.random.default_rng(4)
    clouds = cv2.GaussianBlur(random.uniform(0, 255, (SIZE.height, SIZE.width)), (0, 0), 18)
    clouds = cv2.normalize(clouds, None, 0, 255, cv2.NORM_MINMAX).astype(np.uint8)
    with pytest.raises(LensError, match=r"too few long edges|does not agree"):
        automatic_lens(picture_edges(clouds, 0, SIZE), SIZE)
    with pytest.raises(LensError, match="too few long edges"):
        automatic_lens(picture_edges(np.full((720, 1280), 90, np.uint8), 0, SIZE), SIZE)


def test_curves_of_many_bends_do_not_agree() -> None:
    random = np.random.default_rng(6)
    edges = []
    for _ in range(40):
        along = np.linspace(-0.2, 0.2, 12) * SIZE.width
        middle = random.uniform((400, 200), (880, 520))
        edges.append(Edge(0, middle + np.stack([along, random.uniform(-4e-4, 4e-4) * along**2], -1)))
    with pytest.raises(LensError, match="does not agree on a lens"):
        automatic_lens(edges, SIZE)


def test_edges_are_found_to_a_fraction_of_a_pixel_and_joined() -> None:
    picture = np.full((400, 600), 60, np.float32)
    rows, columns = np.mgrid[0:400, 0:600]
    depth = rows - (120.3 + 0.05 * columns)
    picture += 120 / (1 + np.exp(-2 * depth))
    picture[:, 280:300] = 60  # a post in front
    noisy = np.clip(picture + np.random.default_rng(1).normal(0, 2, picture.shape), 0, 255).astype(np.uint8)
    longest = long_edges(noisy, 100)[0]
    assert np.ptp(longest[:, 0]) > 500
    clear = (np.abs(longest[:, 0] - 290) > 20) & (longest[:, 0] > 5) & (longest[:, 0] < 595)
    off = longest[clear, 1] - (120.3 + 0.05 * longest[clear, 0])
    assert np.sqrt((off**2).mean()) < 0.15


def test_a_point_snaps_to_the_edge_near_it() -> None:
    rows, columns = np.mgrid[0:80, 0:120]
    depth = rows - (40.3 + 0.1 * columns)
    picture = (60 + 120 / (1 + np.exp(-2 * depth))).astype(np.uint8)
    found = nearest_edge(picture, np.array([50.0, 41.0]), 10)
    assert found is not None
    assert abs(found[1] - (40.3 + 0.1 * found[0])) < 0.1
    assert np.hypot(*(found - (50.0, 41.0))) < 6
    assert nearest_edge(np.full((80, 120), 90, np.uint8), np.array([50.0, 41.0]), 10) is None
