"""Interlaced film: told from whole pictures by its motion, and made of whole pictures without combs."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import cv2
import numpy as np
import pytest
from bitstreams import field_pictures
from truth import encoded, rms, run_ffmpeg

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_complex, fit_similarity
from keen_horizon.core.media.frames import Frame, read_frame, read_frames
from keen_horizon.core.media.probe import ClipInfo, probe
from keen_horizon.core.media.scanning import Asked
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.rendering import render_clip
from keen_horizon.simulator.plane import jitter, shaken_pictures

SIZE = Size(640, 480)
FIELDS = 50
KEEPING = ("-c:v", "ffv1", "-pix_fmt", "yuv420p")  # all detail: woven fields lose more of it to any other codec
FLAGGED = ("-flags", "+ilme+ildct", "-top", "1")
TOP_FIRST = ("-field_order", "tt", "-vf", "setfield=tff")


def swaying(count: int) -> Similarities:
    """A camera that sways by 8 px RMS, smoothly, at 50 pictures a second."""
    t = np.arange(count) / 50
    shift = 8 * (np.sin(2 * np.pi * 1.3 * t) + 1j * np.sin(2 * np.pi * 1.9 * t + 1))
    centre = complex(1899 / 2, 1199 / 2)
    return Similarities(np.ones(count, np.complex128), centre + shift - SIZE.centre)


def woven(pictures: Iterable[np.ndarray], first: str) -> list[np.ndarray]:
    """Two pictures a frame: the earlier one's lines of its field, the later one's others."""
    whole = list(pictures)
    frames = []
    for one, other in zip(whole[0::2], whole[1::2], strict=True):
        frame = one.copy()
        lines = slice(1, None, 2) if first == "top" else slice(0, None, 2)
        frame[lines] = other[lines]
        frames.append(frame)
    return frames


def film(ffmpeg: str, path: Path, first: str | None, poses: Similarities, flags: tuple[str, ...] = ()) -> Path:
    pictures = shaken_pictures(poses, SIZE, noise=1.0)
    frames = woven(pictures, first) if first else list(pictures)[0::2]
    return encoded(ffmpeg, path, frames, 25, "-c:v", "mpeg2video", "-q:v", "2", *flags)


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("fields")


@pytest.mark.parametrize(
    ("name", "first", "flags", "read"),
    [
        ("flagged.mpg", "top", FLAGGED, "top"),
        ("unflagged.ts", "top", (), "top"),
        ("bottom.mxf", "bottom", (), "bottom"),
        ("wrongly.mpg", "bottom", FLAGGED, "bottom"),
        ("both_of_one_moment.mpg", None, FLAGGED, None),
        ("whole.m2ts", None, (), None),
    ],
)
def test_fields_are_told_by_flags_and_where_they_lie_by_motion(
    ffmpeg: str, folder: Path, name: str, first: str | None, flags: tuple[str, ...], read: str | None
) -> None:
    info, times = probe(film(ffmpeg, folder / name, first, swaying(FIELDS), flags))
    assert info.reading.first_field == read
    frames = [frame.number for frame in read_frames(info.footage(folder / name), 0, None, times)]
    assert frames == list(range(info.frames))
    assert ClipInfo.from_json(info.to_json()) == info
    if read:
        assert f"{read} field first" in (info.scan_note or "")


@pytest.mark.parametrize("first", ["top", None])
def test_things_that_move_before_a_camera_that_stands_are_not_taken_for_its_motion(
    ffmpeg: str, folder: Path, first: str | None
) -> None:
    """Several at once: what moves from frame to frame is not what moves from field to field."""
    rate = 50 if first else 25
    clip = folder / f"stands_{first}.mpg"
    fields = ("-vf", "interlace=scan=tff:lowpass=0") if first else ()
    pattern = ("-f", "lavfi", "-i", f"testsrc2=size=640x480:rate={rate}:duration=2")
    run_ffmpeg(ffmpeg, *pattern, *fields, "-c:v", "mpeg2video", "-q:v", "3", *FLAGGED, clip)
    info, _ = probe(clip)
    assert (info.scan.told, info.reading.first_field) == ("top", first)


@pytest.mark.parametrize("first", ["top", "bottom"])
@pytest.mark.parametrize("suffix", ["mts", "mp4"])
def test_fields_that_are_pictures_of_their_own(ffmpeg: str, folder: Path, first: str, suffix: str) -> None:
    """As camcorders write H.264; MP4 says "top" of both."""
    pictures = [picture[:, :, 1] for picture in shaken_pictures(swaying(FIELDS), SIZE, noise=0.0)]
    stream = folder / f"{first}.h264"
    stream.write_bytes(field_pictures(woven(pictures, first), first))
    clip = stream.with_suffix(f".{suffix}")
    run_ffmpeg(ffmpeg, "-r", 2 * 25, "-i", stream, "-c", "copy", *(("-f", "mpegts") if suffix == "mts" else ()), clip)
    info, times = probe(clip)
    assert (info.frames, info.promised, info.reading.first_field) == (FIELDS // 2, FIELDS // 2, first)
    assert np.diff(times) == pytest.approx(np.full(FIELDS // 2 - 1, 0.04), abs=1e-4)
    in_order = list(read_frames(info.footage(clip), 0, None, times))
    lines = slice(0 if first == "top" else 1, None, 2)
    for number in (0, 9, 15, 24):
        alone = read_frame(info.footage(clip), number, times)
        assert np.array_equal(alone.luma, in_order[number].luma)
        assert np.array_equal(alone.luma[lines], np.clip(pictures[2 * number][lines], 1, 254))


def test_by_hand_counts_more_than_what_is_found(ffmpeg: str, folder: Path) -> None:
    clip = film(ffmpeg, folder / "hand.mpg", "top", swaying(FIELDS), FLAGGED)
    assert probe(clip, Asked(fields="none"))[0].frames == FIELDS // 2
    pairs, _ = probe(clip, Asked(fields="bottom", every_field=False))
    fields, finer = probe(clip, Asked(every_field=True))
    assert (pairs.frames, fields.frames) == (FIELDS // 2, FIELDS)
    assert (pairs.reading.first_field, fields.reading.first_field) == ("bottom", "top")
    assert np.diff(finer) == pytest.approx(np.full(FIELDS - 1, 0.02), abs=1e-6)
    assert "set by hand" in (pairs.scan_note or "")
    late = read_frame(fields.footage(clip), 41, finer)
    assert late.number == 41
    assert float(late.time) == pytest.approx(finer[41], abs=1e-6)
    counted = list(read_frames(fields.footage(clip), 0, 41, finer))[-1]
    assert np.array_equal(late.luma, counted.luma)


def paired(picture: np.ndarray) -> np.ndarray:
    """Each line read together with its neighbours, as interlaced cameras do, for else their pictures twitter."""
    return cv2.sepFilter2D(picture, -1, np.ones(1), np.array([0.25, 0.5, 0.25]))


def test_film_that_was_stretched_to_fields_is_told(ffmpeg: str, folder: Path) -> None:
    poses = swaying(48)
    pictures = [p for p, _ in zip(shaken_pictures(poses, SIZE, noise=0.0), range(48), strict=True)]
    clip = folder / "telecined.mpg"
    encoded(
        ffmpeg, clip, pictures, 24, "-vf", "telecine=pattern=23,setfield=tff", "-r", "30000/1001", "-c:v", "mpeg2video",
        "-q:v", "2", *FLAGGED,
    )  # fmt: skip
    info, _ = probe(clip)
    assert info.reading.first_field == "top"
    assert "Film of 24 pictures a second was stretched" in (info.scan_note or "")


def comb(frame: Frame) -> float:
    """Energy between fields, levels^2 of 255: lines against the mean of their neighbours, the other field's."""
    y = frame.luma.astype(np.float32)[60:-60, 60:-60] / (1 << (frame.bit_depth - 8))
    return float(((y[1:-1] - (y[:-2] + y[2:]) / 2) ** 2).mean())


def still(info: ClipInfo, clip: Path, times: np.ndarray, poses: Similarities, target: Path) -> tuple[float, float]:
    """How far a held picture's corners move, px RMS, and the energy between its lines.

    `target` is an MKV: H.264 of quality 0 keeps all detail.
    """
    measurement = measure_clip(clip, info, times, 0, info.frames - 1)
    corners = as_complex(SIZE.corners())
    found, true = measurement.poses.apply(corners), poses.apply(corners)
    z, t = fit_similarity(found.ravel(), true.ravel(), np.ones(found.size))
    output = {"codec": "h264", "container": "mkv", "quality": 0}
    held = Treatment.from_json({"motion": {"intent": "hold"}, "edges": {"zoom_limit": 1.4}, "output": output})
    render_clip(clip, info, times, solve_path(measurement, held), held, target)
    return rms(np.abs(z * found + t - true)), float(np.mean([comb(frame) for frame in read_frames(target, 4)]))


def test_hold_stands_still_and_no_comb_is_left(ffmpeg: str, folder: Path) -> None:
    poses = jitter(FIELDS, SIZE, 8.0, seed=3)
    pictures = [paired(picture) for picture in shaken_pictures(poses, SIZE, noise=0.0)]
    progressive = encoded(ffmpeg, folder / "progressive.mkv", pictures, 50, *KEEPING)
    interlaced = encoded(ffmpeg, folder / "interlaced.mkv", woven(pictures, "top"), 25, *KEEPING, *TOP_FIRST)
    _, usual = still(*_opened(progressive), poses, folder / "p.mkv")
    info, clip, times = _opened(interlaced)
    assert info.reading.every_field
    assert info.frames == FIELDS
    moves, left = still(info, clip, times, poses, folder / "i.mkv")
    assert moves <= 0.15
    assert 0.95 * usual <= left <= 1.05 * usual  # no comb is left, and no detail is lost
    _, combed = still(*_opened(interlaced, Asked(fields="none")), poses[::2], folder / "c.mkv")
    assert combed > 3 * usual


def _opened(clip: Path, asked: Asked = Asked(every_field=True)) -> tuple[ClipInfo, Path, np.ndarray]:  # noqa: B008
    info, times = probe(clip, asked)
    return info, clip, times
