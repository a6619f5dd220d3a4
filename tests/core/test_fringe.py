"""Colours that lie apart: laid back onto green, at the depth and the chroma that a file has."""

from __future__ import annotations

from fractions import Fraction

import cv2
import numpy as np
import pytest
from stored import stored
from truth import SMALL
from walks import moved

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.finding.colour_edges import Blocks, ColourEdges, Where, joined
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.colour import colours_where_chroma_is
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Tags
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.light import fringed
from keen_horizon.simulator.plane import jitter, shaken_pictures

GLASS = Fringe((0.004, 0.001), (-0.003, -0.001), 0.03 - 0.02j)  # 1.8 and -1.5 px at a corner of SMALL
SETTINGS = {"red": [0.004, 0.001], "blue": [-0.003, -0.001], "centre_x": 0.03, "centre_y": -0.02}
TAGS = Tags(1, 1, 1, 1, 1)


@pytest.fixture(scope="module")
def town() -> np.ndarray:
    """B, G, R of the painted town, 8 bits, as sharp as glass is."""
    return cv2.GaussianBlur(next(iter(shaken_pictures(Similarities.identity(1), SMALL, noise=0))), (0, 0), 0.8)


def coded(bgr: np.ndarray, depth: int, chroma: str, number: int = 0) -> Frame:
    planes = stored(bgr[..., ::-1].astype(np.float32) / 255, depth, TAGS, chroma)
    return Frame(number, Fraction(number, 25), planes, depth, TAGS)


def warper_of(document: Treatment, chroma: str, poses: Similarities) -> Warper:
    path = solve_path(moved(Measurement.still(SMALL, 0, np.arange(len(poses)) / 25), poses), document)
    return Warper(path, SMALL, output_frame(path, document, SMALL, Fraction(1)), WrittenChroma(chroma), document)


def undone(frame: Frame, chroma: str) -> tuple[np.ndarray, ...]:
    document = Treatment.from_json({"optics": {"fringe": SETTINGS}, "motion": {"intent": None}})
    return warper_of(document, chroma, Similarities.identity(1)).warp(frame).planes


def told(planes: tuple[np.ndarray, ...], depth: int) -> Blocks:
    """What edges tell."""
    edges = ColourEdges(0, *colours_where_chroma_is(planes, depth, TAGS))
    nowhere = Where(edges.places, np.zeros_like(edges.places), np.zeros(len(edges.places), np.intp))
    return joined(edges.shifts(nowhere, Fringe()))


def apart(one: Blocks, other: Blocks) -> float:
    """How far colours of two pictures lie apart at the surest half of their edges, across them, px of luma, RMS."""
    shared, mine, others = np.intersect1d(
        one.where.places + one.colour, other.where.places + other.colour, return_indices=True
    )
    sure, ways = np.linalg.eigh(one.known[mine])
    off = one.shift[mine] - other.shift[others]
    across = off.real * ways[:, 0, 1] + off.imag * ways[:, 1, 1]
    kept = sure[:, 1] >= np.median(sure[:, 1])
    assert len(shared) > 100
    return float(SMALL.half_diagonal * np.sqrt(np.mean(across[kept] ** 2)))


@pytest.mark.parametrize("depth", [8, 10])
@pytest.mark.parametrize(("chroma", "worst", "worst_px"), [("444", 0.4, 0.1), ("422", 0.4, 0.2), ("420", 0.4, 0.2)])
def test_undone_the_picture_is_the_clean_one(
    town: np.ndarray, depth: int, chroma: str, worst: float, worst_px: float
) -> None:
    clean = coded(town, depth, chroma)
    dirty = coded(next(fringed([town], SMALL, GLASS)), depth, chroma)
    planes = undone(dirty, chroma)
    unit = 1 << (depth - 8)
    inside = slice(4, -4)
    for before, after, wanted in zip(dirty.planes, planes, clean.planes, strict=True):
        left, was = (np.abs(p.astype(float) - wanted)[inside, inside].mean() / unit for p in (after, before))
        print(f"{chroma} {depth} bits: {left:.2f} of 255 mean, {was:.2f} before")
        assert after.dtype == before.dtype
        assert left <= worst
        assert left < was
    wanted, before, after = (told(each, depth) for each in (clean.planes, dirty.planes, planes))
    print(f"edges apart: {apart(after, wanted):.3f} px RMS, {apart(before, wanted):.3f} before")
    assert apart(after, wanted) <= worst_px
    assert apart(before, wanted) > 4 * apart(after, wanted)


def test_detail_that_only_luma_has_comes_nearer() -> None:
    """Grain finer than chroma's samples: red's share of it lies aside, and luma has only the mixture."""
    grain = np.random.default_rng(4).normal(0, 1, (SMALL.height, SMALL.width))
    grey = np.clip(128 + 60 * cv2.GaussianBlur(grain, (0, 0), 0.7), 0, 255).astype(np.uint8)
    picture = cv2.merge([grey] * 3)
    clean, dirty = coded(picture, 8, "420"), coded(next(fringed([picture], SMALL, GLASS)), 8, "420")
    left, was = (np.abs(p.astype(float) - clean.luma).mean() for p in (undone(dirty, "420")[0], dirty.luma))
    assert left < 0.75 * was


def test_odd_sizes_are_laid_back_too(town: np.ndarray) -> None:
    """Their last chroma samples have luma on one side only."""
    size = Size(SMALL.width - 1, SMALL.height - 1)
    glass = Fringe(GLASS.red, GLASS.blue)
    pictures = [town[:-1, :-1], next(fringed([np.ascontiguousarray(town[:-1, :-1])], size, glass))]
    planes = [stored(picture[..., ::-1].astype(np.float32) / 255, 8, TAGS, "444") for picture in pictures]
    coarse = [tuple(plane[:: 1 + (i > 0), :: 1 + (i > 0)] for i, plane in enumerate(three)) for three in planes]
    document = Treatment.from_json(
        {"optics": {"fringe": SETTINGS | {"centre_x": 0, "centre_y": 0}}, "motion": {"intent": None}}
    )
    path = solve_path(Measurement.still(size, 0, np.zeros(1)), document)
    warper = Warper(path, size, output_frame(path, document, size, Fraction(1)), WrittenChroma("420"), document)
    made = warper.warp(Frame(0, Fraction(0), coarse[1], 8, TAGS)).planes
    assert np.abs(made[0].astype(float) - planes[0][0][: made[0].shape[0], : made[0].shape[1]]).mean() < 1
    colours, usable = colours_where_chroma_is(coarse[1], 8, TAGS)
    assert colours.shape[1:] == usable.shape == coarse[1][1].shape


def test_what_lies_together_stays_bit_by_bit(town: np.ndarray) -> None:
    frame = coded(town, 8, "420")
    document = Treatment.from_json({"optics": {"fringe": {"centre_x": 0.1}}, "motion": {"intent": None}})
    for plane, before in zip(
        warper_of(document, "420", Similarities.identity(1)).warp(frame).planes, frame.planes, strict=True
    ):
        assert (plane == before).all()


def test_what_other_frames_lend_is_laid_back_too() -> None:
    """Held with borrowed edges, fringed frames with their fringes undone are what clean frames give."""
    poses = jitter(12, SMALL, 10.0, seed=2)
    clean = [cv2.GaussianBlur(picture, (0, 0), 0.8) for picture in shaken_pictures(poses, SMALL, noise=0)]
    held = {"motion": {"intent": "hold"}, "edges": {"way": "borrow", "zoom_limit": 1.05}}
    made = []
    for pictures, optics in ((clean, {}), (list(fringed(clean, SMALL, GLASS)), {"fringe": SETTINGS})):
        warper = warper_of(Treatment.from_json(held | {"optics": optics}), "420", poses)
        frames = [coded(picture, 8, "420", i) for i, picture in enumerate(pictures)]
        made.append([warper.warp(frame, lambda n, f=frames: f[n] if 0 <= n < 12 else None) for frame in frames])
    assert np.mean([warped.lent is not None and warped.lent.mean() for warped in made[0]]) > 0.01
    for one, other in zip(*made, strict=True):
        assert np.abs(one.planes[0].astype(float) - other.planes[0]).mean() < 1.5
        assert one.gap_pixels == other.gap_pixels


def test_the_document_says_what_cannot_be() -> None:
    for wrong in ({"red": [0.03, 0]}, {"blue": [0.001]}, {"centre_y": 0.4}, {"haze": {"amount": 2}}, {"green": [0, 0]}):
        with pytest.raises(TreatmentError, match=r"optics\.fringe"):
            Treatment.from_json({"optics": {"fringe": wrong}})
