"""Files in and out: every codec and oddity that arrives, with a second implementation as witness."""

from __future__ import annotations

import json
import subprocess
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import pytest
from truth import run_ffmpeg, turned

from keen_horizon.core.errors import EncodeError, MediaError, NotVideoError, UnreadableVideoError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.colour import to_bgr, values_of
from keen_horizon.core.media.containers import container_format, open_input
from keen_horizon.core.media.decodable import probe_decodable
from keen_horizon.core.media.encode import EncodeSettings, write_video
from keen_horizon.core.media.frames import read_frame, read_frames
from keen_horizon.core.media.probe import ClipInfo, probe, shortened, with_carried
from keen_horizon.core.media.proxy import THUMBNAIL_WIDTH, THUMBNAILS, make_proxy
from keen_horizon.core.media.stored import Tags

FRAMES = 24
CODECS = {
    "h264.mp4": ["-c:v", "libx264", "-pix_fmt", "yuv420p"],
    "h264_10.mp4": ["-c:v", "libx264", "-pix_fmt", "yuv420p10le"],
    "h265.mov": ["-c:v", "libx265", "-pix_fmt", "yuv420p", "-x265-params", "log-level=none"],
    "h265_10.mkv": ["-c:v", "libx265", "-pix_fmt", "yuv420p10le", "-x265-params", "log-level=none"],
    "vp9.webm": ["-c:v", "libvpx-vp9", "-deadline", "realtime", "-cpu-used", "8"],
    "av1.mkv": ["-c:v", "libsvtav1", "-preset", "12"],
    "prores.mov": ["-c:v", "prores_ks"],
    "mpeg4.avi": ["-c:v", "mpeg4", "-q:v", "3"],
    "mjpeg.avi": ["-c:v", "mjpeg", "-q:v", "3", "-pix_fmt", "yuvj422p"],
    "h264.mkv": ["-c:v", "libx264", "-pix_fmt", "yuv420p", "-bf", "3"],
}


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("codecs")


def pattern(ffmpeg: str, path: Path, *options: str, size: str = "320x180", sound: bool = False) -> Path:
    """A moving test pattern of 24 frames at 24 a second."""
    source = ["-f", "lavfi", "-i", f"testsrc2=size={size}:rate=24:duration=1"]
    tone = ["-f", "lavfi", "-i", "sine=440:duration=1"] if sound else []
    run_ffmpeg(ffmpeg, *source, *tone, *options, path)
    return path


def streams(path: Path) -> list[dict]:
    done = subprocess.run(
        ["ffprobe", "-v", "error", "-count_frames", "-show_streams", "-of", "json", str(path)],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    return json.loads(done.stdout)["streams"]


@pytest.mark.parametrize("name", CODECS)
def test_every_codec_probes_decodes_and_gives_a_proxy(ffmpeg: str, folder: Path, name: str) -> None:
    clip = pattern(ffmpeg, folder / name, *CODECS[name])
    info, times = probe(clip)
    assert (info.frames, info.coded) == (FRAMES, Size(320, 180))
    assert info.rate == pytest.approx(24, rel=0.01)
    assert info.bit_depth == (10 if "10" in name or "prores" in name else 8)
    assert [frame.number for frame in read_frames(clip, 0, None, times)] == list(range(FRAMES))
    facts = make_proxy(clip, info, times, folder / f"{name}.proxy.mp4", folder / f"{name}.jpg")
    assert facts.decoded == FRAMES
    video = streams(folder / f"{name}.proxy.mp4")[0]
    assert int(video["nb_read_frames"]) == FRAMES
    assert not list(folder.glob("*.part"))


@pytest.mark.parametrize("name", ["h264.mp4", "h264.mkv", "vp9.webm"])
def test_seeking_gives_the_same_frame_as_counting(ffmpeg: str, folder: Path, name: str) -> None:
    clip = folder / name
    if not clip.exists():
        pattern(ffmpeg, clip, *CODECS[name])
    _, times = probe(clip)
    counted = {frame.number: frame.luma.copy() for frame in read_frames(clip)}
    for number in (0, 9, 17, 23):
        assert np.array_equal(read_frame(clip, number, times).luma, counted[number])


def test_rotation_flag_turns_the_picture_upright(ffmpeg: str, folder: Path) -> None:
    flat = pattern(ffmpeg, folder / "flat.mp4", "-c:v", "libx264", "-pix_fmt", "yuv420p")
    clip = folder / "turned.mp4"
    turned(flat, clip, 90)
    info, times = probe(clip)
    assert info.coded == Size(180, 320)
    upright = read_frame(clip, 0, times)
    assert np.array_equal(upright.luma, np.rot90(read_frame(flat, 0).luma, 1))
    assert upright.planes[1].shape == (160, 90)


def test_pixel_shape_odd_size_and_silence(ffmpeg: str, folder: Path) -> None:
    wide = pattern(ffmpeg, folder / "wide.mp4", "-vf", "setsar=2", "-c:v", "libx264", "-pix_fmt", "yuv420p")
    assert probe(wide)[0].display == Size(640, 180)
    odd = pattern(ffmpeg, folder / "odd.mkv", "-vf", "format=yuv444p,scale=321:181,setsar=1", "-c:v", "libx264")
    info, times = probe(odd)
    assert (info.coded, info.sound) == (Size(321, 181), None)
    assert make_proxy(odd, info, times, folder / "odd.proxy.mp4", folder / "odd.jpg").size == Size(320, 180)


def test_varying_rate_keeps_every_frames_own_time(ffmpeg: str, folder: Path) -> None:
    clip = folder / "varying.mp4"
    pattern(ffmpeg, clip, "-vf", "setpts='if(lt(N,12),N,12+(N-12)*3)/24/TB'", "-fps_mode", "vfr", "-c:v", "libx264")
    info, times = probe(clip)
    assert info.variable_rate
    steps = np.diff(times)
    assert steps[:11] == pytest.approx(1 / 24, abs=1e-3)
    assert steps[12:] == pytest.approx(3 / 24, abs=1e-3)
    facts = make_proxy(clip, info, times, folder / "varying.proxy.mp4", folder / "varying.jpg")
    assert (facts.frames, facts.decoded) == (info.frames, info.frames)


def test_holes_leave_the_rate_as_it_is(ffmpeg: str, folder: Path) -> None:
    """Though the file's header tells the mean."""
    for suffix in ("mp4", "mkv"):
        clip = folder / f"holes.{suffix}"
        holed = ("-vf", "select='not(between(n,10,13))'", "-fps_mode", "vfr", "-pix_fmt", "yuv420p")
        pattern(ffmpeg, clip, *holed, "-c:v", "libx264")
        info, _ = probe(clip)
        assert info.variable_rate
        assert (info.usual_rate, info.stored_rate) == (24, 24)
        assert info.rate < 23


def test_info_survives_json(ffmpeg: str, folder: Path) -> None:
    info, _ = probe(pattern(ffmpeg, folder / "json.mp4", "-c:v", "libx264"))
    assert ClipInfo.from_json(json.loads(json.dumps(info.to_json()))) == info


def test_facts_of_before_can_still_be_read(ffmpeg: str, folder: Path) -> None:
    info, _ = probe(pattern(ffmpeg, folder / "before.mp4", *CODECS["h264.mp4"]))
    kept = json.loads(json.dumps(info.to_json()))
    for later in ("stored_rate", "reading", "asked", "scan", "carried"):
        del kept[later]
    before = ClipInfo.from_json(kept)
    assert (before.frames, before.notes, before.timecode) == (info.frames, (), None)
    assert before.footage(folder / "before.mp4").reading.first_field is None
    assert with_carried(before, folder / "before.mp4").carried == info.carried


def bad_files(ffmpeg: str, folder: Path) -> dict[str, Path]:
    good = pattern(ffmpeg, folder / "good.mp4", "-c:v", "libx264")
    only_sound = folder / "sound.mp4"
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", "sine=440:duration=1", only_sound)
    texts = {
        "empty.mp4": b"",
        "note.mp4": b"This is a shopping list and not a film at all.",
        "playlist.mp4": b"#EXTM3U\n#EXT-X-TARGETDURATION:10\n#EXTINF:9,\nfile:///etc/passwd\n",
        "script.mov": b"ffconcat version 1.0\nfile /etc/passwd\n",
        "cut.mp4": good.read_bytes()[: good.stat().st_size // 2],
        "noframes.mp4": good.read_bytes()[:64] + b"\0" * 512,
    }
    for name, content in texts.items():
        (folder / name).write_bytes(content)
    return {name: folder / name for name in [*texts, "sound.mp4"]}


def test_bad_files_are_refused_by_name(ffmpeg: str, folder: Path) -> None:
    for name, path in bad_files(ffmpeg, folder).items():
        with pytest.raises((NotVideoError, UnreadableVideoError), match=name.replace(".", r"\.")):
            probe(path)
    with pytest.raises(MediaError, match="gone"):
        probe(folder / "gone.mp4")


def test_a_matroska_that_breaks_off_keeps_the_frames_before(ffmpeg: str, folder: Path) -> None:
    whole = pattern(ffmpeg, folder / "whole.mkv", "-c:v", "libx264", "-g", "4")
    broken = folder / "broken.mkv"
    broken.write_bytes(whole.read_bytes()[: whole.stat().st_size * 2 // 3])
    info, times = probe(broken)
    assert 4 < info.frames < FRAMES
    assert make_proxy(broken, info, times, folder / "b.mp4", folder / "b.jpg").frames == info.frames


def test_a_file_that_breaks_off_is_worked_on_as_far_as_it_goes(ffmpeg: str, folder: Path) -> None:
    whole = pattern(ffmpeg, folder / "long.mp4", "-c:v", "libx264", "-g", "4", "-movflags", "faststart")
    info, times = probe(whole)
    assert (info.promised, info.broken_note) == (FRAMES, None)
    broken = folder / "short.mp4"
    broken.write_bytes(whole.read_bytes()[: whole.stat().st_size * 2 // 3])
    info, times = probe(broken)
    facts = make_proxy(broken, info, times, folder / "s.mp4", folder / "s.jpg")
    short, kept = shortened(info, times, facts.frames)
    assert 4 < short.frames == len(kept) == len(list(read_frames(folder / "s.mp4"))) < FRAMES
    assert f"{short.frames} of its {FRAMES} frames" in str(short.broken_note)
    assert probe_decodable(broken)[0] == short


def test_only_listed_containers_are_recognised() -> None:
    assert container_format(b"\0\0\0\x18ftypmp42") == "mov"
    assert container_format(b"\x1a\x45\xdf\xa3" + b"\0" * 12) == "matroska"
    assert container_format(b"RIFF\0\0\0\0AVI LIST") == "avi"
    assert container_format(b"RIFF\0\0\0\0WAVEfmt ") is None


def planes(value: int, size: Size) -> tuple[np.ndarray, ...]:
    half = (size.height // 2, size.width // 2)
    return (
        np.full((size.height, size.width), value, np.uint8),
        np.full(half, 128, np.uint8),
        np.full(half, 128, np.uint8),
    )


def test_full_disk_leaves_no_file_and_says_so(tmp_path: Path) -> None:
    target = tmp_path / "out.mp4"
    (tmp_path / "out.mp4.part").symlink_to("/dev/full")
    settings = EncodeSettings(Size(320, 180), 8, "420", Fraction(24), Fraction(1, 24), quality=0)
    random = np.random.default_rng(0)

    def fill() -> None:
        with write_video(target, settings) as writer:
            for number in range(60):
                noise = random.integers(0, 255, (180, 320), np.uint8)
                writer.write((noise, *planes(0, Size(320, 180))[1:]), Fraction(number, 24))

    with pytest.raises(EncodeError, match="disk is full"):
        fill()
    assert list(tmp_path.iterdir()) == []


def test_tags_depth_and_pixel_shape_are_written(tmp_path: Path) -> None:
    target = tmp_path / "tagged.mp4"
    settings = EncodeSettings(
        Size(320, 180), 10, "422", Fraction(25), Fraction(1, 1000), Fraction(4, 3), tags=Tags(9, 16, 9, 1)
    )
    deep = (np.full((180, 320), 500, np.uint16), *[np.full((180, 160), 512, np.uint16)] * 2)
    with write_video(target, settings) as writer:
        for number in range(5):
            writer.write(deep, Fraction(number * 37, 1000))
    video = streams(target)[0]
    assert video["pix_fmt"] == "yuv422p10le"
    assert video["sample_aspect_ratio"] == "4:3"
    assert (video["color_primaries"], video["color_transfer"], video["color_space"]) == (
        "bt2020",
        "smpte2084",
        "bt2020nc",
    )
    _, times = probe(target)
    assert np.diff(times) == pytest.approx(0.037, abs=1e-6)


def test_colours_there_and_back() -> None:
    tags = Tags(1, 1, 1, 1)
    for colour in ("#000000", "#ffffff", "#c83214", "#1050d0"):
        y, u, v = (np.full((1, 1), value, np.uint8) for value in values_of(colour, 8, tags))
        b, g, r = to_bgr(y, u, v, tags)[0, 0]
        assert [int(r), int(g), int(b)] == pytest.approx([int(colour[i : i + 2], 16) for i in (1, 3, 5)], abs=3)
    assert values_of("#ffffff", 10, Tags(1, 1, 1, 2)) == (1023, 512, 512)


def test_thumbnails_lie_side_by_side(ffmpeg: str, folder: Path) -> None:
    clip = pattern(ffmpeg, folder / "thumbs.mp4", "-c:v", "libx264")
    info, times = probe(clip)
    make_proxy(clip, info, times, folder / "t.mp4", folder / "t.jpg")
    strip = cv2.imread(str(folder / "t.jpg"))
    assert strip.shape[1] == THUMBNAILS * THUMBNAIL_WIDTH
    assert strip.std() > 20


def test_opened_files_cannot_name_other_files(tmp_path: Path) -> None:
    disguised = tmp_path / "list.mkv"
    disguised.write_bytes(b"#EXTM3U\nhttp://127.0.0.1:1/x.ts\n")
    with pytest.raises(NotVideoError, match="not a video"):
        open_input(disguised)
