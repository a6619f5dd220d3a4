"""Chroma stays where luma is: sites told, turned with the picture, and kept through zoom, turn and lens."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from truth import ffprobe, run_ffmpeg, turned

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.media.chroma import CENTER, NAMES, WrittenChroma, chroma_place, turned_site
from keen_horizon.core.media.encode import EncodeSettings, write_video
from keen_horizon.core.media.formats import VIDEO_FORMATS, written_chroma
from keen_horizon.core.media.frames import Frame, read_frame
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.stored import Tags
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment.document import Treatment

SIZE = Size(640, 480)
SOFT = 3.0  # px: an edge that even chroma's grid holds exactly
SITES = {1: "left", 2: "center", 3: "topleft"}


def edge(at: float, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """A leaning soft edge through (at, 240), 0 ... 1."""
    return 1 / (1 + np.exp(-(x - at - 0.2 * (y - 240)) / SOFT))


def coloured(at: float, site: int, down: int = 2) -> Frame:
    """A frame of 10 bits whose luma and chroma, every second column and `down`th row, change at one edge, sampled
    where `site` says.
    """
    rows, columns = np.mgrid[0:480, 0:640].astype(np.float64)
    place = chroma_place(site, 2, down)
    x, y = 2 * np.arange(320) + place[0], down * np.arange(480 // down)[:, None] + place[1]
    luma = 200 + 500 * edge(at, columns, rows)
    blue, red = 400 + 300 * edge(at, x, y), 700 - 300 * edge(at, x, y)
    planes = tuple(np.rint(plane).astype(np.uint16) for plane in (luma, blue, red))
    return Frame(0, Fraction(0), planes, 10, Tags(1, 1, 1, 1, site))


def places(plane: np.ndarray, low: float, high: float) -> np.ndarray:
    """Where the edge lies in each row, in its own samples: as much as lies before it, of all that changes."""
    return ((high - plane.astype(np.float64)) / (high - low)).sum(1) - 0.5


@pytest.mark.parametrize("site", SITES)
@pytest.mark.parametrize(
    "treatment",
    [
        {"edges": {"window": {"scale": 1.37, "turn_deg": 2.3, "x": 7.3, "y": -9.1}}},
        {"optics": {"lens": {"family": "polynomial", "coefficients": [-0.12, 0.03, 0.0]}}},
    ],
    ids=["zoom_and_turn", "lens"],
)
def test_a_coloured_edge_stays_with_its_light(site: int, treatment: dict) -> None:
    document = Treatment.from_json({"motion": {"intent": None}, **treatment})
    path = solve_path(Measurement.still(SIZE, 0, np.zeros(1)), document)
    warper = Warper(path, SIZE, output_frame(path, document, SIZE, Fraction(1)), WrittenChroma("420"), document)
    for at in (322.3, 402.8):
        luma, blue, red = warper.warp(coloured(at, site)).planes
        of_luma = places(luma, 200, 700)
        x, y = chroma_place(site, 2, 2)
        beside = np.interp(2 * np.arange(len(blue)) + y, np.arange(len(luma)), of_luma)
        for plane, low, high in ((blue, 400, 700), (red, 700, 400)):
            apart = 2 * places(plane, low, high) + x - beside
            print(f"{abs(apart.mean()):.3f} {np.abs(apart).max():.3f}")
            assert abs(apart.mean()) <= 0.02
            assert np.abs(apart).max() <= 0.05


def test_chroma_halved_across_only_is_written_beside_luma() -> None:
    """Stills have it in the middle, which films cannot say of 4:2:2."""
    document = Treatment.from_json({"motion": {"intent": None}})
    path = solve_path(Measurement.still(SIZE, 0, np.zeros(1)), document)
    warper = Warper(path, SIZE, output_frame(path, document, SIZE, Fraction(1)), WrittenChroma("422"), document)
    luma, blue, _ = warper.warp(coloured(322.3, CENTER, down=1)).planes
    apart = 2 * places(blue, 400, 700) - places(luma, 200, 700)
    assert abs(apart.mean()) <= 0.02
    assert np.abs(apart).max() <= 0.05


def test_chroma_goes_to_the_left_where_a_file_has_no_word_for_its_place() -> None:
    """Though nothing else is done to the picture."""
    document = Treatment.from_json({"motion": {"intent": None}})
    path = solve_path(Measurement.still(SIZE, 0, np.zeros(1)), document)
    written = written_chroma("vp9", "420", "mp4")
    warper = Warper(path, SIZE, output_frame(path, document, SIZE, Fraction(1)), written, document)
    luma, blue, _ = warper.warp(coloured(322.3, CENTER)).planes
    beside = np.interp(2 * np.arange(len(blue)) + 0.5, np.arange(len(luma)), places(luma, 200, 700))
    apart = 2 * places(blue, 400, 700) - beside
    assert abs(apart.mean()) <= 0.02
    assert np.abs(apart).max() <= 0.05


@pytest.mark.parametrize(
    ("codec", "container"),
    [(codec, c) for codec, f in VIDEO_FORMATS.items() if codec != "prores" for c in f.containers],
)
def test_the_site_that_a_file_is_written_with_is_read_back(tmp_path: Path, codec: str, container: str) -> None:
    """Or, of a file that tells none, everybody's usual one."""
    planes = tuple(np.full(shape, 128, np.uint8) for shape in ((120, 160), (60, 80), (60, 80)))
    for site in range(7):
        settings = EncodeSettings(
            size=Size(160, 120), bit_depth=8, chroma="420", rate=Fraction(25), time_base=Fraction(1, 12800),
            codec=codec, container=container, tags=Tags(1, 1, 1, 1, site),
        )  # fmt: skip
        clip = tmp_path / f"{site}.{container}"
        with write_video(clip, settings) as writer:
            writer.write(planes, Fraction(0))
        told = ffprobe(clip)["streams"][0].get("chroma_location", "left")
        assert told == (NAMES[VIDEO_FORMATS[codec].written("420", container).site(site)] or "left")


def test_turning_a_picture_turns_its_sites() -> None:
    for site in range(1, 7):
        assert turned_site(turned_site(site, 1), 3) == site
        assert turned_site(turned_site(site, 2), 2) == site
    assert [turned_site(1, turns) for turns in range(4)] == [1, 6, 7, 4]


@pytest.mark.parametrize(("site", "name"), SITES.items())
def test_sites_are_read_from_files(ffmpeg: str, tmp_path: Path, site: int, name: str) -> None:
    clip, upright = tmp_path / "clip.mp4", tmp_path / "turned.mp4"
    made = ("-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=0.4", "-pix_fmt", "yuv420p")
    run_ffmpeg(ffmpeg, *made, "-c:v", "libx264", "-x264-params", f"chromaloc={site - 1}", clip)
    info, _ = probe(clip)
    assert info.reading.site == site, name
    assert read_frame(info.footage(clip), 0).tags.site == site
    turned(clip, upright, 90)
    info, _ = probe(upright)
    assert read_frame(info.footage(upright), 0).tags.site == turned_site(site, info.turns)
