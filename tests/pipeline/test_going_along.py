"""What a file carries, through a render: kept, or named as lost, as Debian's ffprobe reads it back.

The table in docs/what-goes-along.md is made here: KEEN_HORIZON_WRITE=1 pytest tests/pipeline/test_going_along.py.
"""

from __future__ import annotations

import json
import os
import subprocess
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from bitstreams import with_dynamic_metadata
from truth import ffprobe, run_ffmpeg

from keen_horizon.config import PROJECT
from keen_horizon.core.media.along import Fate
from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.like_source import like_source
from keen_horizon.pipeline.rendering import render_clip

TABLE = PROJECT / "docs" / "what-goes-along.md"
HEAD = """# What goes along

Made by `tests/pipeline/test_going_along.py`, which renders each of these and reads the result back with ffprobe: what
is said to be kept is there, and what is not there is said. ✓ kept, ≈ changed, ✕ not kept.

| file | delivered as | picture | sound | timecode | tags | other |
|---|---|---|---|---|---|---|
"""
MARKS = {"kept": "✓", "changed": "≈", "lost": "✕"}
RANGE = {"in": 3, "out": 12}
TAGGED = ("-metadata", "title=Boat week", "-metadata", "creation_time=2026-05-06T07:08:09Z", "-timecode", "10:00:00:00")
CAMERA = ("-movflags", "use_metadata_tags", "-metadata", "make=Pier", "-metadata", "model=P1", "-metadata",
          "location=+50.1000+004.2000/")  # fmt: skip
FIELDS = ("-flags", "+ilme+ildct", "-top", "1")
HDR10 = "master-display=G(8500,39850)B(6550,2300)R(35400,14600)WP(15635,16450)L(10000000,50):max-cll=1000,400"
BT2020 = ("-color_primaries", "bt2020", "-color_trc", "smpte2084", "-colorspace", "bt2020nc")


@dataclass(frozen=True)
class Film:
    """A made file: its name, ffmpeg's options for it, and how many sound tracks go in."""

    name: str
    options: tuple[str, ...]
    sounds: int = 1
    alpha: bool = False
    rate: str = "25"
    interlaced: bool = False


FILMS = [
    Film("phone.mp4", ("-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "aac", *TAGGED, *CAMERA)),
    Film("two_tracks.mov", ("-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "pcm_s24le", "-metadata:s:a:0",
         "language=eng", "-metadata:s:a:1", "language=fra", *TAGGED), sounds=2),
    Film("three_tracks.mkv", ("-c:v", "libx264", "-pix_fmt", "yuv422p10le", "-c:a:0", "flac", "-c:a:1", "ac3", "-c:a:2",
         "libopus", "-metadata:s:a:1", "language=deu", "-metadata:s:a:2", "title=Quay", *TAGGED), sounds=3),
    Film("hdr.mkv", ("-c:v", "libx265", "-pix_fmt", "yuv420p10le", "-x265-params", f"log-level=none:hdr10=1:{HDR10}",
         *BT2020, "-c:a", "aac")),
    Film("deep.mov", ("-c:v", "libx265", "-pix_fmt", "yuv444p12le", "-tag:v", "hvc1", "-x265-params", "log-level=none",
         "-c:a", "aac"), sounds=0),
    Film("camcorder.m2ts", ("-c:v", "libx264", "-pix_fmt", "yuv420p", *FIELDS, "-x264-params", "tff=1", "-c:a", "ac3",
         "-mpegts_m2ts_mode", "1"), interlaced=True),
    Film("disc.mpg", ("-c:v", "mpeg2video", "-q:v", "3", *FIELDS, "-c:a", "mp2", "-timecode", "10:00:00:00"),
         interlaced=True),
    Film("broadcast.mxf", ("-c:v", "mpeg2video", "-q:v", "3", "-pix_fmt", "yuv422p", "-c:a", "pcm_s16le",
         "-timecode", "09:59:58;28"), sounds=2, rate="30000/1001"),
    Film("dv.avi", ("-c:v", "dvvideo", "-s", "720x576", "-pix_fmt", "yuv420p", "-c:a", "pcm_s16le")),
    Film("tape.dv", ("-s", "720x480", "-pix_fmt", "yuv411p", "-target", "ntsc-dv"), rate="30000/1001"),
    Film("master.mov", ("-c:v", "prores_ks", "-profile:v", "hq", "-c:a", "pcm_s16le", *TAGGED)),
    Film("keyed.mov", ("-c:v", "prores_ks", "-profile:v", "4444", "-pix_fmt", "yuva444p10le"), sounds=0, alpha=True),
    Film("web.webm", ("-c:v", "libvpx-vp9", "-deadline", "realtime", "-cpu-used", "8", "-c:a", "libopus")),
    Film("keyed.webm", ("-c:v", "libvpx-vp9", "-pix_fmt", "yuva420p", "-auto-alt-ref", "0", "-deadline", "realtime",
         "-cpu-used", "8"), sounds=0, alpha=True),
    Film("modern.mkv", ("-c:v", "libsvtav1", "-preset", "12", "-pix_fmt", "yuv420p10le", "-c:a", "libopus")),
    Film("stills.avi", ("-c:v", "mjpeg", "-pix_fmt", "yuvj422p", "-q:v", "3", "-c:a", "pcm_s16le")),
    Film("archive.mkv", ("-c:v", "ffv1", "-pix_fmt", "gbrp10le", "-c:a", "flac")),
    Film("named.mov", ("-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "pcm_s24le", "-metadata:s:a:0", "title=Quay",
         "-metadata:s:a:1", "title=Boat", *TAGGED), sounds=2),
    Film("top_left.mp4", ("-c:v", "libx264", "-pix_fmt", "yuv420p", "-x264-params", "chromaloc=2", "-c:a", "aac")),
]  # fmt: skip
DELIVERIES = [
    {"codec": "h264", "container": "mp4"},
    {"codec": "h265", "container": "mov"},
    {"codec": "h264", "container": "mkv"},
    {"codec": "prores", "container": "mov"},
    {"codec": "source", "container": "source"},
]


@pytest.fixture(scope="module")
def films(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("films")
    return {film.name: made(ffmpeg, folder / film.name, film) for film in FILMS}


def made(ffmpeg: str, path: Path, film: Film) -> Path:
    """A film of 16 pictures; of 32 fields of a camera that is shaken, where it is interlaced."""
    pictures = f"testsrc2=size=320x240:rate={film.rate}:duration=0.64"
    if film.interlaced:
        shaken = "crop=320:240:x='40+30*sin(20*t)':y='30+25*sin(27*t)'"
        pictures = f"testsrc2=size=400x300:rate=50:duration=0.64,{shaken},interlace=scan=tff:lowpass=0"
    clear = "format=yuva444p10le,geq=lum='lum(X,Y)':cb='cb(X,Y)':cr='cr(X,Y)':a='if(gt(X,W/2),1023,200)'"
    sources = ["-f", "lavfi", "-i", f"{pictures},{clear}" if film.alpha else pictures]
    for number in range(film.sounds):
        sources += ["-f", "lavfi", "-i", f"sine={440 * (number + 1)}:sample_rate=48000:duration=0.64"]
    tracks = [option for number in range(film.sounds + 1) for option in ("-map", str(number))]
    run_ffmpeg(ffmpeg, *sources, *tracks, *film.options, path)
    return path


@pytest.mark.parametrize("output", DELIVERIES, ids=lambda output: f"{output['codec']}-{output['container']}")
def test_everything_is_kept_or_named(films: dict[str, Path], tmp_path: Path, output: dict[str, str]) -> None:
    for name, source in films.items():
        fates, target, treatment = rendered(source, tmp_path, output)
        found = ffprobe(target)
        check(name, fates, found, treatment)
        row = table_row(name, output, fates)
        if os.environ.get("KEEN_HORIZON_WRITE"):
            _write(row, restart=(name, output) == (FILMS[0].name, DELIVERIES[0]))
        assert row in TABLE.read_text(), f"docs/what-goes-along.md lacks {row}"


def rendered(source: Path, folder: Path, output: dict[str, str]) -> tuple[tuple[Fate, ...], Path, Treatment]:
    info, times = probe(source)
    treatment = like_source(Treatment.from_json({"motion": {"intent": None}, "range": RANGE, "output": output}), info)
    first, last = treatment.frames(info.frames)
    target = folder / f"{source.stem}.{treatment.output.container}"
    path = solve_path(Measurement.still(info.display, first, times[first : last + 1]), treatment)
    render_clip(source, info, times, path, treatment, target)
    return clip_fates(info, treatment), target, treatment


def check(name: str, fates: tuple[Fate, ...], found: dict[str, Any], treatment: Treatment) -> None:
    """What is said of a render against what is in it."""
    told = {fate.what: fate for fate in fates}
    streams: dict[str, list[dict[str, Any]]] = {}
    for stream in found["streams"]:
        streams.setdefault(stream["codec_type"], []).append(stream)
    sounds = [fate for what, fate in told.items() if what.startswith("sound")]
    assert len(streams.get("audio", [])) == sum(fate.outcome != "lost" for fate in sounds), name
    tags = {key.lower(): value for key, value in found["format"].get("tags", {}).items()}
    for stream in found["streams"]:
        tags |= {key.lower(): value for key, value in stream.get("tags", {}).items() if key.lower() == "timecode"}
    assert ("timecode" in tags) == ("timecode" in told and told["timecode"].outcome == "kept"), name
    assert tags["processing"].startswith("Keen Horizon")
    if any("title" in what and fate.outcome == "kept" for what, fate in told.items()):
        assert tags["title"] == "Boat week"
        assert tags["creation_time"].startswith("2026-05-06T07:08:09")
    if name == "phone.mp4":
        assert (tags["make"], tags["model"], tags["location"][:8]) == ("Pier", "P1", "+50.1000")
    side = json.dumps(found["frame"])
    kept_light = "HDR light levels" in told and told["HDR light levels"].outcome == "kept"
    assert ("Mastering display" in side and "Content light" in side) == kept_light, name
    pixels = streams["video"][0]["pix_fmt"]
    beside = streams["video"][0].get("tags", {}).get("alpha_mode", "0") == "1"  # as VP9 keeps it
    assert ("yuva" in pixels or beside) == ("alpha" in told and told["alpha"].outcome == "kept"), name
    own = next(fate for fate in fates if " at " in fate.what and "bits" in fate.what)
    chroma, bits = (own.what if own.outcome == "kept" else own.how).split(" at ")
    assert ("R G B" in own.what) == (name == "archive.mkv")
    assert chroma.replace(":", "") in pixels, name
    if not (
        treatment.output.codec == "prores" and "444" in pixels
    ):  # whose decoders give 12 bits, whatever was written
        assert ("10le" in pixels, "12le" in pixels) == (bits.startswith("10"), bits.startswith("12")), name
    fields = told.get("interlaced fields")
    assert (fields is not None) == (name in ("camcorder.m2ts", "disc.mpg")), name
    assert streams["video"][0].get("field_order", "progressive") == "progressive"
    full = name == "stills.avi" and treatment.output.codec != "prores"
    assert (streams["video"][0].get("color_range") == "pc") == full, name
    if name == "named.mov":
        titles = [{stream["tags"].get("title"), stream["tags"].get("handler_name")} for stream in streams["audio"]]
        assert ["Quay" in titles[0], "Boat" in titles[1]] == [True, True]
    if name == "top_left.mp4" and treatment.output.codec in ("h264", "h265"):
        assert streams["video"][0]["chroma_location"] == "topleft"


def table_row(name: str, output: dict[str, str], fates: tuple[Fate, ...]) -> str:
    """A line of the table."""
    cells: dict[str, list[str]] = {"picture": [], "sound": [], "timecode": [], "tags": [], "other": []}
    for fate in fates:
        kind = "picture" if any(word in fate.what for word in ("bits", "chroma", "alpha", "HDR", "fields")) else "other"
        kind = "sound" if fate.what.startswith("sound") else "timecode" if fate.what == "timecode" else kind
        kind = "tags" if "title" in fate.what and "sound" not in fate.what else kind
        cells[kind].append(f"{MARKS[fate.outcome]} {fate.what}{f': {fate.how}' if fate.how else ''}")
    delivered = "like the source" if output["codec"] == "source" else f"{output['codec']} in {output['container']}"
    return f"| {name} | {delivered} | " + " | ".join("; ".join(lines) or "-" for lines in cells.values()) + " |"


def _write(row: str, restart: bool) -> None:
    text = HEAD if restart or not TABLE.exists() else TABLE.read_text()
    if row not in text:
        TABLE.write_text(text + row + "\n")


@pytest.mark.parametrize(("container", "outcome", "site"), [("mkv", "kept", "topleft"), ("mp4", "changed", "left")])
def test_where_chroma_lies_is_kept_or_named(
    films: dict[str, Path], tmp_path: Path, container: str, outcome: str, site: str
) -> None:
    fates, target, _ = rendered(films["top_left.mp4"], tmp_path, {"codec": "vp9", "container": container})
    named = [fate.outcome for fate in fates if fate.what == "chroma's place (topleft)"]
    assert named == ([] if outcome == "kept" else [outcome])
    assert ffprobe(target)["streams"][0].get("chroma_location", "left") == site


@pytest.mark.parametrize(
    ("rate", "start", "cut", "told"),
    [
        ("30000/1001", "00:59:58;20", 50, "01:00:00;10"),
        ("30000/1001", "00:08:59;25", 10, "00:09:00;07"),
        ("25", "10:00:00:00", 37, "10:00:01:12"),
        ("24000/1001", "23:59:59:10", 20, "00:00:00:06"),
    ],
)
@pytest.mark.parametrize("suffix", ["mov", "mp4", "mkv", "mxf"])
def test_timecode_goes_with_the_range(
    ffmpeg: str, tmp_path: Path, rate: str, start: str, cut: int, told: str, suffix: str
) -> None:
    codec = ("-c:v", "mpeg2video") if suffix == "mxf" else ("-c:v", "libx264", "-pix_fmt", "yuv420p")
    place = ("-metadata", f"timecode={start}") if suffix == "mkv" else ("-timecode", start)
    clip = tmp_path / f"clip.{suffix}"
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", f"testsrc2=size=160x120:rate={rate}:duration=3", *codec, *place, clip)
    info, times = probe(clip)
    assert str(info.timecode) == start
    for container in ("mov", "mkv"):
        treatment = Treatment.from_json(
            {"motion": {"intent": None}, "range": {"in": cut, "out": cut + 5}, "output": {"container": container}}
        )
        path = solve_path(Measurement.still(info.display, cut, times[cut : cut + 6]), treatment)
        target = tmp_path / f"cut.{container}"
        render_clip(clip, info, times, path, treatment, target)
        assert str(probe(target)[0].timecode) == told


def test_subtitles_and_chapters_move_with_the_range(ffmpeg: str, tmp_path: Path) -> None:
    (tmp_path / "words.srt").write_text(
        "1\n00:00:00,200 --> 00:00:00,600\nAhoy\n\n2\n00:00:01,000 --> 00:00:01,600\nLand\n\n"
        "3\n00:00:02,400 --> 00:00:02,800\nHome\n"
    )
    (tmp_path / "chapters.txt").write_text(
        ";FFMETADATA1\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=0\nEND=1000\ntitle=Out\n"
        "[CHAPTER]\nTIMEBASE=1/1000\nSTART=1000\nEND=3000\ntitle=Back\n"
    )
    clip = tmp_path / "clip.mkv"
    pattern = ("-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=3")
    texts = (
        "-i",
        tmp_path / "words.srt",
        "-i",
        tmp_path / "chapters.txt",
        "-map",
        "0",
        "-map",
        "1",
        "-map_chapters",
        "2",
    )
    run_ffmpeg(ffmpeg, *pattern, *texts, "-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:s", "srt", clip)
    info, times = probe(clip)
    document = {"motion": {"intent": None}, "range": {"in": 20, "out": 50}, "output": {"container": "mkv"}}
    treatment = Treatment.from_json(document)
    path = solve_path(Measurement.still(info.display, 20, times[20:51]), treatment)
    target = tmp_path / "cut.mkv"
    render_clip(clip, info, times, path, treatment, target)
    assert {(f.what, f.outcome) for f in clip_fates(info, treatment)} >= {("subtitles 1", "kept"), ("chapters", "kept")}
    found = ffprobe(target)
    assert [(c["start_time"], c["end_time"], c["tags"]["title"]) for c in found["chapters"]] == [
        ("0.000000", "0.200000", "Out"), ("0.200000", "1.240000", "Back"),
    ]  # fmt: skip
    words = subprocess.run(
        ["ffmpeg", "-v", "error", "-i", str(target), "-f", "srt", "-"], capture_output=True, text=True
    )
    assert words.stdout.split("\n")[:3] == ["1", "00:00:00,200 --> 00:00:00,800", "Land"]
    assert "Ahoy" not in words.stdout
    assert "Home" not in words.stdout


def test_dynamic_metadata_is_told_as_lost(ffmpeg: str, tmp_path: Path) -> None:
    plain, told, clip = tmp_path / "plain.h265", tmp_path / "told.h265", tmp_path / "bright.mp4"
    pattern = ("-f", "lavfi", "-i", "testsrc2=size=320x240:rate=25:duration=0.64")
    encoding = (
        "-c:v",
        "libx265",
        "-pix_fmt",
        "yuv420p10le",
        "-x265-params",
        f"log-level=none:bframes=0:hdr10=1:{HDR10}",
    )
    run_ffmpeg(ffmpeg, *pattern, *encoding, *BT2020, plain)
    told.write_bytes(with_dynamic_metadata(plain.read_bytes()))
    run_ffmpeg(ffmpeg, "-r", 25, "-i", told, "-c", "copy", clip)
    assert "2094-40" in json.dumps(ffprobe(clip)["frame"])
    fates, target, _ = rendered(clip, tmp_path, {"codec": "h265", "container": "mkv"})
    lost = [fate for fate in fates if fate.outcome == "lost"]
    assert ["2094-40" in fate.what for fate in lost] == [True]
    assert "2094-40" not in json.dumps(ffprobe(target)["frame"])


def test_sound_that_is_damaged_throughout_stops_no_render(ffmpeg: str, tmp_path: Path) -> None:
    whole, clip = tmp_path / "whole.m2ts", tmp_path / "clip.m2ts"
    pattern = (
        "-f",
        "lavfi",
        "-i",
        "testsrc2=size=160x120:rate=25:duration=0.64",
        "-f",
        "lavfi",
        "-i",
        "sine=duration=0.64",
    )
    run_ffmpeg(ffmpeg, *pattern, "-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "ac3", whole)
    sync_word = b"\x0b\x77"
    clip.write_bytes(whole.read_bytes().replace(sync_word, b"\0\0"))
    fates, target, _ = rendered(clip, tmp_path, {"codec": "h264", "container": "mp4"})
    told = next(fate for fate in fates if fate.what.startswith("sound"))
    assert (told.outcome, told.how) == ("lost", "damaged, or of a kind that cannot be read here")
    assert [stream["codec_type"] for stream in ffprobe(target)["streams"]] == ["video"]


@pytest.mark.parametrize(
    ("sound", "container", "outcome", "how"),
    [
        (("anullsrc=channel_layout=22.2", "pcm_s16le"), "mp4", "lost", "24 channels of no named layout"),
        (("anullsrc=channel_layout=22.2", "pcm_s16le"), "mov", "kept", ""),
        (("anullsrc=channel_layout=2.1", "pcm_s16le"), "webm", "lost", "Opus does not take 2.1 at 48000 Hz"),
        (("sine=sample_rate=11111", "pcm_s16le"), "mp4", "changed", "encoded as AAC"),
    ],
)
def test_sound_that_an_encoder_refuses_is_named(
    ffmpeg: str, tmp_path: Path, sound: tuple[str, str], container: str, outcome: str, how: str
) -> None:
    source, codec = sound
    clip = tmp_path / "clip.mkv"
    pattern = ("-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=0.64")
    tone = ("-f", "lavfi", "-t", "0.64", "-i", source if "=sample" in source else f"{source}:sample_rate=48000")
    run_ffmpeg(ffmpeg, *pattern, *tone, "-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", codec, clip)
    pictures = "vp9" if container == "webm" else "h264"
    fates, target, _ = rendered(clip, tmp_path, {"codec": pictures, "container": container})
    told = next(fate for fate in fates if fate.what.startswith("sound"))
    assert (told.outcome, told.how) == (outcome, how)
    streams = [stream for stream in ffprobe(target)["streams"] if stream["codec_type"] == "audio"]
    assert len(streams) == (outcome != "lost")
