"""Camera files that go on from one another become one film, packet by packet."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from truth import run_ffmpeg

from keen_horizon.cli import main
from keen_horizon.core.errors import MediaError
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.joining import in_order, joined
from keen_horizon.core.media.probe import probe


@pytest.fixture(scope="module")
def takes(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A take of three files in several containers, and the whole."""
    folder = tmp_path_factory.mktemp("takes")
    whole = ("-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=3", "-f", "lavfi", "-i")
    encoding = ("-c:v", "libx264", "-bf", "2", "-pix_fmt", "yuv420p", "-c:a", "ac3")
    for suffix in ("mov", "mkv", "mts"):
        for number in range(3):
            start = f"10:00:0{number}:00"
            part = ("-ss", number, "-t", 1)
            place = ("-metadata", f"timecode={start}") if suffix == "mkv" else ("-timecode", start)
            told = () if suffix == "mts" else place
            format_ = ("-f", "mpegts", "-mpegts_m2ts_mode", "1") if suffix == "mts" else ()
            file = folder / f"C{number + 7:04}.{suffix}"
            run_ffmpeg(ffmpeg, *whole, "sine=440:duration=3", *part, *encoding, *told, *format_, file)
    return folder


@pytest.mark.parametrize("suffix", ["mov", "mkv", "mts"])
def test_a_take_in_three_files(takes: Path, tmp_path: Path, suffix: str) -> None:
    files = [takes / f"C{number:04}.{suffix}" for number in (8, 7, 9)]
    target = tmp_path / f"take.{suffix}"
    assert main(["join", *(str(file) for file in files), "--out", str(target)]) == 0
    info, times = probe(target)
    assert info.frames == 75
    assert np.abs(np.diff(times) - 0.04).max() < 0.002
    pictures = [f.luma for f in read_frames(target, 0, None, times)]
    parts = [f.luma for file in sorted(files) for f in read_frames(file, 0, None, probe(file)[1])]
    assert len(pictures) == len(parts) == 75
    assert all(np.array_equal(a, b) for a, b in zip(pictures, parts, strict=True))
    assert info.carried.sounds[0].codec == "ac3"
    if suffix != "mts":
        assert str(info.timecode) == "10:00:00:00"


def test_parts_before_the_figures_tracks_with_names_and_what_stays_behind(
    ffmpeg: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "words.srt").write_text("1\n00:00:00,200 --> 00:00:00,800\nAhoy\n")
    inputs = (
        "-f",
        "lavfi",
        "-i",
        "testsrc2=size=160x120:rate=25:duration=1",
        "-f",
        "lavfi",
        "-i",
        "sine=440:duration=1",
    )
    encoding = ("-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "aac", "-c:s", "mov_text")
    named = ("-metadata:s:a:0", "title=Deck", "-metadata:s:a:0", "language=deu")
    files = [tmp_path / f"CX0{part}0031.mp4" for part in (1, 2)]
    for file in files:
        run_ffmpeg(ffmpeg, *inputs, "-i", tmp_path / "words.srt", "-map", "0", "-map", "1", "-map", "2",
                   *encoding, *named, file)  # fmt: skip
    target = tmp_path / "take.mp4"
    assert main(["join", *(str(file) for file in reversed(files)), "--out", str(target)]) == 0
    assert "not kept: the subtitles of the files it was joined of." in capsys.readouterr().err
    (sound,) = probe(target)[0].carried.sounds
    assert (sound.title, sound.language) == ("Deck", "ger")
    with pytest.raises(MediaError, match="does not count on"):
        in_order(
            [(file, replace(probe(file)[0], name=name)) for file, name in zip(files, ("A1.mp4", "A3.mp4"), strict=True)]
        )


def test_what_does_not_go_on_is_refused(takes: Path, ffmpeg: str, tmp_path: Path) -> None:
    def told(*names: Path) -> list[tuple[Path, object]]:
        return [(path, probe(path)[0]) for path in names]

    with pytest.raises(MediaError, match=r"C0009.mov: its name does not count on from C0007.mov"):
        in_order(told(takes / "C0007.mov", takes / "C0009.mov"))
    other = tmp_path / "C0008.mov"
    pattern = ("-f", "lavfi", "-i", "testsrc2=size=160x90:rate=25:duration=1", "-c:v", "libx264")
    run_ffmpeg(ffmpeg, *pattern, "-pix_fmt", "yuv420p", other)
    with pytest.raises(MediaError, match=r"C0008.mov: its size is another than that of C0007.mov"):
        in_order(told(takes / "C0007.mov", other))
    late = tmp_path / "C0008_late" / "C0008.mov"
    late.parent.mkdir()
    run_ffmpeg(ffmpeg, "-i", takes / "C0008.mov", "-c", "copy", "-timecode", "10:00:09:00", late)
    with pytest.raises(MediaError, match=r"begins at 10:00:09:00, but C0007.mov ends at 10:00:01:00"):
        in_order(told(takes / "C0007.mov", late))
    with pytest.raises(MediaError, match="at least two"):
        in_order(told(late))


def test_joining_can_be_stopped_and_leaves_nothing(takes: Path, tmp_path: Path) -> None:
    parts = in_order([(path, probe(path)[0]) for path in sorted(takes.glob("*.mkv"))])
    with pytest.raises(Exception, match="stopped"):
        joined(parts, tmp_path / "x.mkv", should_stop=lambda: True)
    assert not list(tmp_path.iterdir())
