"""Files that cannot be worked on, or only in part: the message is the editor's, with the file's own name."""

from __future__ import annotations

import json
import pickle
import random
import zipfile
import zlib
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import pytest
from benches import Bench
from hostile import damaged, measured_and_corrected, seed_clips
from truth import run_ffmpeg

from keen_horizon.cli import main
from keen_horizon.config import Settings
from keen_horizon.core.errors import KeenHorizonError, MediaError
from keen_horizon.core.media.layers import read_layers
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.proxy import make_proxy
from keen_horizon.jobs.apart import Apart
from keen_horizon.jobs.running import run_work
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.store.models import Clip, ClipState


def pictures(path: Path, sizes: list[tuple[int, int]]) -> Path:
    """A film of JPEG pictures of these sizes (width, height)."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream("mjpeg", rate=25)
        stream.width, stream.height = sizes[0]
        stream.pix_fmt = "yuvj420p"
        for number, (width, height) in enumerate(sizes):
            noise = np.random.default_rng(number).integers(0, 255, (height, width, 3), np.uint8)
            packet = av.Packet(cv2.imencode(".jpg", noise)[1].tobytes())
            packet.pts = packet.dts = number
            packet.time_base, packet.stream, packet.is_keyframe = Fraction(1, 25), stream, True
            container.mux(packet)
    return path


def silent_codec(path: Path, ffmpeg: str) -> Path:
    """A film whose sound names a codec that nobody has."""
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=0.4", "-f", "lavfi", "-i",
               "sine=duration=0.4", "-c:v", "libx264", "-c:a", "aac", path)  # fmt: skip
    path.write_bytes(path.read_bytes().replace(b"A_AAC", b"A_XYZ"))
    return path


def slow(path: Path, ffmpeg: str) -> Path:
    """A picture every 5000 seconds."""
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=0.2", "-vf", "setpts=N*5000/TB",
               "-fps_mode", "passthrough", "-c:v", "libx264", path)  # fmt: skip
    return path


REFUSED: dict[str, tuple[Callable[[Path, str], Path], str]] = {
    "wide.mkv": (lambda path, _: pictures(path, [(16384, 2)] * 3), "its picture is 16384×2 pixels"),
    "tall.mkv": (lambda path, _: pictures(path, [(1, 60000)] * 3), "its picture is 1×60000 pixels"),
    "change.mkv": (lambda path, _: pictures(path, [(320, 240)] * 5 + [(160, 120)] * 5), "from 320×240 to 160×120"),
    "grows.mkv": (lambda path, _: pictures(path, [(320, 240)] * 5 + [(2000, 1500)] * 2), "from 320×240 to 2000×1500"),
}


@pytest.mark.parametrize("name", list(REFUSED))
def test_what_cannot_be_prepared_is_named_on_its_card(
    settings: Settings, ffmpeg: str, tmp_path: Path, name: str
) -> None:
    make, says = REFUSED[name]
    bench = Bench(settings, make(tmp_path / name, ffmpeg))
    run_work(bench.engine, bench.files, bench.newest().id)
    clip = bench.ask(lambda s: s.get_one(Clip, bench.clip))
    assert clip.state is ClipState.FAILED
    assert clip.error.startswith(f"{name}: ")
    assert says in clip.error
    assert bench.leftovers() == []


def test_sound_that_cannot_be_read_is_left_out_and_said(ffmpeg: str, tmp_path: Path) -> None:
    clip = silent_codec(tmp_path / "quiet.mkv", ffmpeg)
    info, _ = probe(clip)
    assert (info.sound, info.sound_unread) == (None, True)
    assert "sound is of a kind that cannot be read" in info.notes[0]
    assert measured_and_corrected(str(clip), str(tmp_path)) == ""
    assert probe(tmp_path / "c.mp4")[0].sound is None


def test_sound_without_a_named_layout_is_encoded(ffmpeg: str, tmp_path: Path) -> None:
    """AVI only counts channels; the encoder wants to know which."""
    clip = tmp_path / "camera.avi"
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=0.4", "-f", "lavfi", "-i",
               "sine=duration=0.4", "-c:v", "mjpeg", "-c:a", "pcm_s16le", clip)  # fmt: skip
    assert measured_and_corrected(str(clip), str(tmp_path)) == ""
    assert probe(tmp_path / "c.mp4")[0].sound == "aac"


def test_a_picture_every_hour_can_be_prepared(ffmpeg: str, tmp_path: Path) -> None:
    clip = slow(tmp_path / "slow.mkv", ffmpeg)
    info, times = probe(clip)
    facts = make_proxy(clip, info, times, tmp_path / "p.mp4", tmp_path / "p.jpg")
    assert (facts.frames, facts.rate) == (5, 0.1)


def test_graphics_gone_wrong_are_named_as_they_came(tmp_path: Path) -> None:
    """Files are stored under other names than the editor's."""
    with zipfile.ZipFile(tmp_path / "whole.zip", "w") as archive:
        archive.writestr("a.png", b"x" * 999)
    packed = (tmp_path / "whole.zip").read_bytes()
    cases = {"ab12.zip": packed[:500], "cd34.zip": packed, "ef56.png": _vast_png(), "a.mov": b"no"}
    for key, content in cases.items():
        (tmp_path / key).write_bytes(content)
        with pytest.raises(MediaError) as told:
            next(read_layers(tmp_path / key, "map of the harbour"))
        assert key not in str(told.value)
        assert str(told.value).startswith(("map of the harbour", "a.png"))


def _vast_png() -> bytes:
    """A PNG picture that says it is 60000 pixels wide and high."""
    small = bytearray(cv2.imencode(".png", np.zeros((4, 4), np.uint8))[1].tobytes())
    small[16:24] = (60000).to_bytes(4, "big") * 2
    small[29:33] = zlib.crc32(small[12:29]).to_bytes(4, "big")
    return bytes(small)


def test_damaged_media_are_measured_or_refused(ffmpeg: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A small part of benchmarks/fuzz.py: no signal, no traceback, nothing left behind."""
    monkeypatch.setenv("PYTHONPATH", str(Path(__file__).parents[2] / "benchmarks"))
    (tmp_path / "seeds").mkdir()
    apart, outcomes = Apart(members=1), set()
    for seed_number, seed in enumerate(seed_clips(tmp_path / "seeds", ffmpeg)):
        for number in range(4):
            draw = random.Random(seed_number * 100 + number)
            out = tmp_path / f"{seed_number}-{number}"
            out.mkdir()
            clip = out / seed.name
            clip.write_bytes(damaged(seed.read_bytes(), draw))
            said = apart.call(clip.name, measured_and_corrected, str(clip), str(out))
            outcomes.add(bool(said))
            assert not said or clip.name in said or "c.mp4: the file could not" in said, said
            assert {path.name for path in out.iterdir()} <= {clip.name, "m.npz", "c.mp4"}
    assert outcomes == {True, False}
    apart.close()


def test_errors_survive_the_way_between_processes() -> None:
    for error in (MediaError("quay.mp4: x"), KeenHorizonError("y")):
        again = pickle.loads(pickle.dumps(error))
        assert (type(again), str(again)) == (type(error), str(error))


def test_pictures_damaged_at_the_end_stop_no_render(
    ffmpeg: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """The last one that can be decoded stands in for them, as the one before does for those in between."""
    whole, clip = tmp_path / "whole.mp4", tmp_path / "clip.mp4"
    intra = ("-c:v", "libx264", "-g", "1", "-bf", "0", "-pix_fmt", "yuv420p")
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", "testsrc2=size=320x240:rate=25:duration=1.2", *intra, whole)
    with av.open(str(whole)) as container:
        packets = [(packet.pos, packet.size) for packet in container.demux(video=0) if packet.size]
    data = bytearray(whole.read_bytes())
    for position, size in packets[-3:]:
        data[position : position + size] = bytes(size)
    clip.write_bytes(data)
    report = tmp_path / "r.json"
    assert main(["correct", str(clip), str(tmp_path / "out.mp4"), "--report", str(report)]) == 0
    assert probe(tmp_path / "out.mp4")[0].frames == len(packets) == 30
    said = "Damaged or missing in the file, so that the picture beside it stands in: frames 27-29."
    assert said in json.loads(report.read_text())["notes"]
    assert f"clip.mp4: {said}" in capsys.readouterr().err
    for position, size in packets[10:]:
        data[position : position + size] = bytes(size)
    clip.write_bytes(data)
    with pytest.raises(
        KeenHorizonError, match=r"clip.mp4: the file breaks off after frame 9\. Set the out point there"
    ):
        measure_clip(clip, *probe(clip), 0, 29)
