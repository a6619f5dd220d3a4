"""Sound stays with the picture over ten minutes, also where both begin apart, whether copied or encoded."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest
from truth import run_ffmpeg

from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.rendering import render_clip

MINUTES, RATE, SAMPLES = 10, 2, 48_000
CLICKS = np.arange(7, 60 * MINUTES, 31.37)  # s


def heard(path: Path) -> np.ndarray:
    """When clicks begin, s from the start of the pictures, as Debian's ffmpeg plays the file."""
    command = ["ffmpeg", "-v", "error", "-i", str(path), "-map", "0:a:0", "-af", "aresample=async=1:first_pts=0"]
    command += ["-f", "f32le", "-ac", "1", "-ar", str(SAMPLES), "-"]
    sound = np.frombuffer(subprocess.run(command, capture_output=True, check=True).stdout, np.float32)
    loud = np.flatnonzero(np.abs(sound) > 0.25)
    first = loud[np.diff(loud, prepend=-SAMPLES) > SAMPLES]
    return first / SAMPLES


@pytest.fixture(scope="module")
def film(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Ten minutes with clicks at known moments of its sound."""
    folder = tmp_path_factory.mktemp("sync")
    samples = np.zeros(60 * MINUTES * SAMPLES, np.float32)
    for moment in CLICKS:
        at = round(moment * SAMPLES)
        samples[at : at + 960] = 0.8 * np.sin(2 * np.pi * 1000 * np.arange(960) / SAMPLES + np.pi / 2)
    (folder / "clicks.f32").write_bytes(samples.tobytes())
    wave = folder / "clicks.wav"
    run_ffmpeg(ffmpeg, "-f", "f32le", "-ar", SAMPLES, "-ac", 1, "-i", folder / "clicks.f32", wave)
    source = ("-f", "lavfi", "-i", f"testsrc2=size=64x48:rate={RATE}:duration={60 * MINUTES}")
    run_ffmpeg(ffmpeg, *source, "-c:v", "libx264", "-preset", "ultrafast", "-pix_fmt", "yuv420p", folder / "film.mp4")
    return folder


def test_plain_samples_are_cut_to_the_sample(ffmpeg: str, tmp_path: Path) -> None:
    """Packets of 1,920 samples, cut within the first one and the last."""
    clip, target = tmp_path / "clip.avi", tmp_path / "cut.mov"
    pattern = ("-f", "lavfi", "-i", "testsrc2=size=64x48:rate=24:duration=2")
    tone = ("-f", "lavfi", "-i", f"aevalsrc=sin(300*t*t):s={SAMPLES}:d=2,asetnsamples=1920")
    run_ffmpeg(ffmpeg, *pattern, *tone, "-c:v", "mjpeg", "-c:a", "pcm_s16le", clip)
    info, times = probe(clip)
    treatment = Treatment.from_json(
        {"motion": {"intent": None}, "range": {"in": 5, "out": 16}, "output": {"codec": "prores", "container": "mov"}}
    )
    path = solve_path(Measurement.still(info.display, 5, times[5:17]), treatment)
    render_clip(clip, info, times, path, treatment, target)
    whole, cut = (samples_of(ffmpeg, file) for file in (clip, target))
    assert np.array_equal(cut, whole[10_000:34_000])  # 5 / 24 s ... 17 / 24 s


def samples_of(ffmpeg: str, path: Path) -> np.ndarray:
    """The file's sound, 16 bits."""
    command = [ffmpeg, "-v", "error", "-i", str(path), "-map", "0:a:0", "-f", "s16le", "-"]
    return np.frombuffer(subprocess.run(command, capture_output=True, check=True).stdout, np.int16)


@pytest.mark.parametrize("later", [0.48, -0.64], ids=["pictures_first", "sound_first"])
@pytest.mark.parametrize(
    ("suffix", "sound", "container"),
    [("mov", "pcm_s16le", "mov"), ("mov", "pcm_s16le", "mp4"), ("mov", "pcm_s16le", "mkv"), ("ts", "ac3", "mp4")],
)
def test_clicks_come_when_they_should(
    ffmpeg: str, film: Path, tmp_path: Path, later: float, suffix: str, sound: str, container: str
) -> None:
    """`later` is by how much the sound begins after the pictures, s."""
    clip = tmp_path / f"clip.{suffix}"
    shift = ("-itsoffset", str(abs(later)))
    pictures, clicks = ("-i", film / "film.mp4"), ("-i", film / "clicks.wav")
    inputs = (*pictures, *shift, *clicks) if later > 0 else (*shift, *pictures, *clicks)
    run_ffmpeg(ffmpeg, *inputs, "-map", "0:v", "-map", "1:a", "-c:v", "copy", "-c:a", sound, clip)
    info, times = probe(clip)
    first, last = 81, info.frames - 16
    document = {"motion": {"intent": None}, "range": {"in": first, "out": last}, "output": {"container": container}}
    treatment = Treatment.from_json(document)
    path = solve_path(Measurement.still(info.display, first, times[first : last + 1]), treatment)
    target = tmp_path / f"cut.{container}"
    render_clip(clip, info, times, path, treatment, target)
    begins, ends = float(times[first] - times[0]), float(times[last] - times[0])
    true = CLICKS + later - begins
    true = true[(true > 0.1) & (true < ends - begins - 0.1)]
    found = heard(target)
    assert len(found) == len(true)
    assert np.abs(found - true).max() <= 0.001
