"""Every delivered format, read back by a second reader: frame count, times, size, tags, sound."""

from __future__ import annotations

import csv
import io
import json
import subprocess
import zipfile
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import pytest
from truth import run_ffmpeg

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.encode import EncodeSettings, write_video
from keen_horizon.core.media.formats import VIDEO_FORMATS, expected_bytes
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import probe
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.compare import Comparison
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.rendering import RenderFacts, Versus, as_shot, render_clip

RATE, SECONDS = 25, 3
RANGE = {"in": 10, "out": 59}


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory, ffmpeg: str) -> Path:
    """A tagged 8-bit film with sound whose packets do not line up with frames."""
    return made(ffmpeg, tmp_path_factory.mktemp("output") / "source.mp4", "yuv420p", "aac")


def made(ffmpeg: str, path: Path, pixels: str, sound: str) -> Path:
    run_ffmpeg(
        ffmpeg, "-f", "lavfi", "-i", f"testsrc2=size=320x180:rate={RATE}:duration={SECONDS}", "-f", "lavfi", "-i",
        f"sine=440:sample_rate=44100:duration={SECONDS}", "-c:v", "libx264", "-pix_fmt", pixels, "-colorspace", "bt709",
        "-color_primaries", "bt709", "-color_trc", "bt709", "-color_range", "tv", "-c:a", sound, path,
    )  # fmt: skip
    return path


def delivered(source: Path, target: Path, output: dict, versus: str | None = None, **parts: object) -> RenderFacts:
    treatment = Treatment.from_json({"range": RANGE, "output": output, **parts})
    info, times = probe(source)
    first, last = treatment.frames(info.frames)
    measurement = measure_clip(source, info, times, first, last)
    plain = as_shot(treatment)
    other = Versus(solve_path(measurement, plain), plain, Comparison(versus)) if versus else None
    return render_clip(source, info, times, solve_path(measurement, treatment), treatment, target, versus=other)


def read_back(path: Path) -> dict[str, dict]:
    """ffprobe's view of a file: its streams by kind, with the times of the pictures."""
    command = ["ffprobe", "-v", "error", "-count_frames", "-show_streams", "-show_frames", "-of", "json", str(path)]
    found = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    streams = {stream["codec_type"]: stream for stream in found["streams"]}
    times = [float(f["pts_time"]) for f in found["frames"] if f["media_type"] == "video"]
    return streams | {"times": sorted(times)}


def heard(ffmpeg: str, path: Path) -> float:
    """Seconds of sound that a player gets, by decoding all of it; what a file says to skip is skipped."""
    command = [ffmpeg, "-v", "error", "-i", str(path), "-f", "s16le", "-ac", "1", "-ar", "48000", "-"]
    return len(subprocess.run(command, capture_output=True, check=True).stdout) / 2 / 48000


@pytest.mark.parametrize(
    ("codec", "container", "name", "pixels", "sound"),
    [
        ("h264", "mp4", "h264", "yuv420p", "aac"),
        ("h264", "mkv", "h264", "yuv420p", "flac"),
        ("h265", "mp4", "hevc", "yuv420p", "aac"),
        ("h265", "mov", "hevc", "yuv420p", "aac"),
        ("prores", "mov", "prores", "yuv422p10le", "aac"),
        ("vp9", "webm", "vp9", "yuv420p", "opus"),
        ("vp9", "mp4", "vp9", "yuv420p", "aac"),
        ("av1", "mp4", "av1", "yuv420p", "aac"),
        ("av1", "webm", "av1", "yuv420p", "opus"),
    ],
)
def test_each_codec_is_read_by_a_second_reader(
    source: Path, tmp_path: Path, ffmpeg: str, codec: str, container: str, name: str, pixels: str, sound: str
) -> None:
    """Bar 8."""
    target = tmp_path / f"out.{container}"
    facts = delivered(source, target, {"codec": codec, "container": container, "quality": 30})
    found = read_back(target)
    video = found["video"]
    assert facts.frames == int(video["nb_read_frames"]) == 50
    assert (video["codec_name"], video["pix_fmt"]) == (name, pixels)
    assert (video["width"], video["height"]) == (320, 180)
    assert np.array(found["times"]) == pytest.approx(np.arange(50) / RATE, abs=0.0011)
    assert (video["color_space"], video["color_primaries"], video["color_transfer"]) == ("bt709",) * 3
    assert found["audio"]["codec_name"] == sound
    assert heard(ffmpeg, target) == pytest.approx(2.0, abs=0.025)
    assert sorted(p.name for p in tmp_path.iterdir()) == [target.name]


def test_sound_is_cut_to_the_sample_where_the_container_can_say_so(source: Path, tmp_path: Path) -> None:
    delivered(source, tmp_path / "out.mp4", {"quality": 30})
    sound = read_back(tmp_path / "out.mp4")["audio"]
    assert float(sound["start_time"]) == pytest.approx(0, abs=1e-4)
    assert float(sound["duration"]) == pytest.approx(2.0, abs=1e-3)


def test_whole_sound_is_copied_untouched(source: Path, tmp_path: Path, ffmpeg: str) -> None:
    info, times = probe(source)
    treatment = Treatment.from_json({"motion": {"intent": None}, "output": {"container": "mkv"}})
    whole = measure_clip(source, info, times, 0, info.frames - 1)
    render_clip(source, info, times, solve_path(whole, treatment), treatment, tmp_path / "out.mkv")
    digest = [ffmpeg, "-v", "error", "-i", "-", "-map", "0:a", "-c", "copy", "-f", "md5", "-"]
    prints = [
        subprocess.run([*digest[:4], str(p), *digest[5:]], capture_output=True, text=True, check=True).stdout
        for p in (source, tmp_path / "out.mkv")
    ]
    assert prints[0] == prints[1]


def test_ten_bits_stay_where_the_codec_has_them(tmp_path: Path, ffmpeg: str) -> None:
    deep = made(ffmpeg, tmp_path / "deep.mov", "yuv422p10le", "pcm_s16le")
    for codec, container, pixels in (
        ("h265", "mkv", "yuv422p10le"),
        ("av1", "mkv", "yuv420p10le"),
        ("vp9", "webm", "yuv422p"),
    ):
        delivered(deep, tmp_path / f"{codec}.{container}", {"codec": codec, "container": container, "quality": 30})
        assert read_back(tmp_path / f"{codec}.{container}")["video"]["pix_fmt"] == pixels
    delivered(deep, tmp_path / "p.mov", {"codec": "prores", "container": "mov"})
    assert read_back(tmp_path / "p.mov")["audio"]["codec_name"] == "pcm_s16le"


@pytest.mark.parametrize(("codec", "depth"), [("png", np.uint8), ("tiff", np.uint16)])
def test_picture_sequences(source: Path, tmp_path: Path, ffmpeg: str, codec: str, depth: type) -> None:
    target = tmp_path / "frames.zip"
    treatment = {"codec": codec, "container": "zip"}
    delivered(source, target, treatment, motion={"intent": None})
    with zipfile.ZipFile(target) as archive:
        names = archive.namelist()
        pictures = [name for name in names if name.endswith((".png", ".tif", ".exr"))]
        assert len(pictures) == 50
        assert pictures[0].startswith("frames.000010.")
        table = list(csv.reader(io.StringIO(archive.read("frames.times.csv").decode())))
        assert table[1] == ["10", "0.000000"]
        assert float(table[-1][1]) == pytest.approx(49 / RATE)
        shown = cv2.imdecode(np.frombuffer(archive.read(pictures[20]), np.uint8), cv2.IMREAD_UNCHANGED)
    assert (shown.shape, shown.dtype) == ((180, 320, 3), depth)
    run_ffmpeg(
        ffmpeg, "-i", source, "-vf", "select=eq(n\\,30),scale=in_color_matrix=bt709", "-frames:v", 1, tmp_path / "t.png"
    )
    truth = cv2.imread(str(tmp_path / "t.png")).astype(float)
    scale = 255 / np.iinfo(depth).max
    assert np.abs(shown * scale - truth).mean() < 4


def test_own_size_and_upscaling(source: Path, tmp_path: Path) -> None:
    delivered(source, tmp_path / "big.mp4", {"quality": 30}, edges={"size": {"width": 480, "height": 480}})
    info, _ = probe(tmp_path / "big.mp4")
    assert (info.coded.width, info.coded.height, info.pixel_aspect) == (480, 480, 1)


@pytest.mark.parametrize(("layout", "width"), [("side", 640), ("wipe", 320)])
def test_comparisons_hold_both_sides(source: Path, tmp_path: Path, layout: str, width: int) -> None:
    target = tmp_path / "c.mp4"
    facts = delivered(source, target, {"quality": 4}, layout, edges={"window": {"scale": 1.5}})
    assert (facts.width, facts.height) == (width, 180)
    before = next(read_frames(source, 30, 30, probe(source)[1])).luma.astype(float)
    both = next(read_frames(target, 20, 20, probe(target)[1])).luma.astype(float)
    assert np.abs(both[:, :150] - before[:, :150]).mean() < 4
    assert np.abs(both[:, -150:] - before[:, -150:]).mean() > 15


def test_a_turned_wipe_parts_the_picture_aslant() -> None:
    one, other = np.zeros((100, 200), np.uint8), np.full((100, 200), 9, np.uint8)
    joined = Comparison("wipe", 0.5, np.pi / 4).joined((one,), (other,))[0]
    assert joined[50, 95] == 0
    assert joined[50, 105] == 9
    assert joined[2, 140] == 0  # a line turned clockwise leans to the right at its top
    assert joined[97, 60] == 9


def test_a_codec_names_its_containers() -> None:
    with pytest.raises(TreatmentError, match="vp9 does not go into mov; use webm or mkv or mp4"):
        Treatment.from_json({"output": {"codec": "vp9", "container": "mov"}})


def test_expected_sizes_are_of_the_right_order(source: Path, tmp_path: Path) -> None:
    for codec, format_ in VIDEO_FORMATS.items():
        target = tmp_path / f"x.{format_.containers[0]}"
        delivered(source, target, {"codec": codec, "container": format_.containers[0], "quality": format_.usual})
        expected = expected_bytes(codec, format_.usual, 320 * 180, 50, False)
        assert 0.1 < target.stat().st_size / expected < 6, codec


@pytest.mark.parametrize("count", [1, 2, 3])
@pytest.mark.parametrize(("codec", "container"), [("h264", "mp4"), ("h265", "mp4"), ("h265", "mov"), ("av1", "mp4")])
def test_a_film_of_very_few_frames_is_whole(tmp_path: Path, codec: str, container: str, count: int) -> None:
    clip = tmp_path / f"few.{container}"
    planes = tuple(np.full(shape, 128, np.uint8) for shape in ((120, 160), (60, 80), (60, 80)))
    settings = EncodeSettings(
        size=Size(160, 120), bit_depth=8, chroma="420", rate=Fraction(25), time_base=Fraction(1, 12800), codec=codec,
        container=container,
    )  # fmt: skip
    with write_video(clip, settings) as writer:
        for number in range(count):
            writer.write(planes, Fraction(number, 25))
    info, times = probe(clip)
    assert info.frames == count
    assert times - times[0] == pytest.approx(np.arange(count) / 25)
