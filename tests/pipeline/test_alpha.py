"""Coverage goes with the picture: through moving it, through frames that lend, and clear gaps where they are wanted."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from truth import run_ffmpeg

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.frames import Frame, read_frames
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.stored import Tags
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.rendering import render_clip

SIZE = Size(320, 240)


@pytest.fixture(scope="module")
def keyed(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A film whose coverage and luma are the same pattern."""
    path = tmp_path_factory.mktemp("alpha") / "keyed.mov"
    pattern = (
        "testsrc2=size=320x240:rate=25:duration=0.4,format=yuva444p10le,geq=lum='lum(X,Y)':cb=512:cr=512:a='lum(X,Y)'"
    )
    run_ffmpeg(
        ffmpeg, "-f", "lavfi", "-i", pattern, "-c:v", "prores_ks", "-profile:v", "4444", "-alpha_bits", "16", path
    )
    return path


def rendered(source: Path, target: Path, document: dict) -> list[Frame]:
    info, times = probe(source)
    treatment = Treatment.from_json({"motion": {"intent": None}, **document})
    path = solve_path(Measurement.still(info.display, 0, times), treatment)
    render_clip(source, info, times, path, treatment, target)
    made, made_times = probe(target)
    return list(read_frames(made.footage(target), 0, None, made_times))


def test_coverage_moves_with_the_picture(keyed: Path, tmp_path: Path) -> None:
    window = {"window": {"scale": 1.2, "turn_deg": 3.0, "x": 6.4, "y": -3.7}}
    output = {"codec": "prores", "container": "mov"}
    for frame in rendered(keyed, tmp_path / "moved.mov", {"edges": window, "output": output}):
        assert frame.alpha is not None
        apart = frame.alpha.astype(float) - frame.luma.astype(float)
        assert np.abs(apart).mean() < 0.012 * (1 << frame.bit_depth)


@pytest.mark.parametrize(
    ("clear", "codec", "container"), [(True, "prores", "mov"), (True, "vp9", "webm"), (False, "prores", "mov")]
)
def test_gaps_are_clear_where_wanted(
    shaky: tuple[Path, Similarities], tmp_path: Path, clear: bool, codec: str, container: str
) -> None:
    edges = {"way": "leave", "gap_clear": clear, "window": {"scale": 0.5}}
    document = {"edges": edges, "range": {"in": 0, "out": 2}, "output": {"codec": codec, "container": container}}
    info, times = probe(shaky[0])
    treatment = Treatment.from_json({"motion": {"intent": None}, **document})
    path = solve_path(Measurement.still(info.display, 0, times[:3]), treatment)
    target = tmp_path / f"gaps.{container}"
    render_clip(shaky[0], info, times, path, treatment, target)
    made, made_times = probe(target)
    for frame in read_frames(made.footage(target), 0, None, made_times):
        assert (frame.alpha is not None) == clear
        if frame.alpha is not None:
            top = (1 << frame.bit_depth) - 1
            rows, columns = frame.alpha.shape
            assert frame.alpha[rows // 3 : -rows // 3, columns // 3 : -columns // 3].min() > 0.98 * top
            assert frame.alpha[: rows // 5].max() < 0.02 * top


def test_frames_that_lend_lend_their_coverage() -> None:
    """Two frames a side's width apart: what one lacks the other shows, with its own coverage there."""
    times = np.arange(3) / 25
    poses = Similarities(np.ones(3, np.complex128), np.array([0, 24, 0], np.complex128))
    measurement = replace(Measurement.still(SIZE, 0, times), poses=poses)
    document = Treatment.from_json(
        {"motion": {"intent": "hold"}, "edges": {"way": "borrow", "borrow": {"reach_s": 0.1, "rest": "leave"}}}
    )
    path = solve_path(measurement, document)
    output = output_frame(path, document, SIZE, Fraction(1))
    warper = Warper(path, SIZE, output, WrittenChroma("444"), document, alpha=True)
    frames = {number: _plain(number, 600 if number == 1 else 1023) for number in range(3)}
    warped = warper.warp(frames[1], frames.get)
    assert warped.alpha is not None
    assert warped.lent is not None
    lent, own = warped.lent > 0.9 * warped.lent.max(), warped.lent == 0
    assert int((warped.alpha == 0).sum()) == warped.gap_pixels > 0
    assert warped.alpha[lent].min() > 700  # the frames beside cover all
    assert set(np.unique(warped.alpha[own])) == {0, 600}


def _plain(number: int, cover: int) -> Frame:
    rng = np.random.default_rng(number)
    luma = rng.integers(300, 700, (240, 320)).astype(np.uint16)
    grey = np.full_like(luma, 512)
    alpha = np.full_like(luma, cover)
    return Frame(number, Fraction(number, 25), (luma, grey, grey), 10, Tags(1, 1, 1, 1), alpha=alpha)
