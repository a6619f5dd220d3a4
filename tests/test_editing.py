"""An edit comes back with the same cuts, corrected media, to the frame."""

from __future__ import annotations

import json
import shutil
from fractions import Fraction
from pathlib import Path

import opentimelineio as otio
import pytest
from truth import run_ffmpeg

from keen_horizon.cli import main
from keen_horizon.core.errors import EditError
from keen_horizon.core.exchange.edits import DEEPEST, exact_rate, read_edit
from keen_horizon.core.exchange.relinking import Media, relinked, replacement
from keen_horizon.core.media.frames import read_frame
from keen_horizon.core.media.probe import probe

RATE = 25
MEDIA = {"quay.mov": "10:00:00:00", "tower.mov": "01:02:03:04", "dinghy.mov": "00:00:00:00"}


def at(frames: float, rate: float = RATE) -> otio.opentime.RationalTime:
    return otio.opentime.RationalTime(frames, rate)


def span(first: float, count: float) -> otio.opentime.TimeRange:
    return otio.opentime.TimeRange(at(first), at(count))


def begins(timecode: str) -> int:
    return int(otio.opentime.from_timecode(timecode, RATE).value)


def used(name: str, first: int, count: int) -> otio.schema.Clip:
    """A clip that uses frames of a file, in that file's own time."""
    start = begins(MEDIA.get(name, "00:00:00:00"))
    reference = otio.schema.ExternalReference(f"file:///elsewhere/{name}", span(start, 60))
    clip = otio.schema.Clip(f"{name} {first}", reference, span(start + first, count))
    clip.metadata["grade"] = {"warm": first}
    return clip


def edit() -> otio.schema.Timeline:
    """Twelve clips over two tracks, some nested, with gaps, a dissolve, a marker and sound."""
    timeline = otio.schema.Timeline("Boat week")
    timeline.global_start_time = at(90000)
    first, second = otio.schema.Track("V1"), otio.schema.Track("V2")
    timeline.tracks.extend([first, second, otio.schema.Track("A1", kind="Audio")])
    first.append(used("quay.mov", 10, 20))
    first.append(otio.schema.Transition(in_offset=at(3), out_offset=at(3), transition_type="SMPTE_Dissolve"))
    first.append(used("tower.mov", 5, 15))
    first.append(otio.schema.Gap(source_range=span(0, 12)))
    first.append(used("quay.mov", 40, 10))
    nested = otio.schema.Stack("inner")
    inner = otio.schema.Track("V1")
    nested.append(inner)
    for start in (2, 20, 33):
        inner.append(used("dinghy.mov", start, 8))
    first.append(nested)
    second.append(otio.schema.Gap(source_range=span(0, 30)))
    for name, start in (("tower.mov", 30), ("missing.mov", 3), ("quay.mov", 12), ("dinghy.mov", 50), ("tower.mov", 44)):
        second.append(used(name, start, 6))
    timeline.tracks[2].append(used("quay.mov", 10, 20))
    first[0].markers.append(otio.schema.Marker("look here", span(begins("10:00:00:00") + 12, 1)))
    return timeline


@pytest.fixture(scope="module")
def media(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("shoot")
    (folder / "day_1").mkdir()
    for number, (name, timecode) in enumerate(MEDIA.items()):
        pictures = f"testsrc2=size=160x120:rate={RATE}:duration=2.4,hue=h={120 * number}"
        run_ffmpeg(
            ffmpeg, "-f", "lavfi", "-i", pictures, "-c:v", "libx264", "-pix_fmt", "yuv420p", "-timecode", timecode,
            folder / "day_1" / name,
        )  # fmt: skip
    return folder


def test_the_same_cuts_with_corrected_files(media: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    before = edit()
    before.to_json_file(str(tmp_path / "before.otio"))
    (tmp_path / "t.json").write_text(
        json.dumps({"motion": {"intent": None}, "output": {"codec": "prores", "container": "mov"}})
    )
    arguments = [
        "edit",
        tmp_path / "before.otio",
        tmp_path / "after.otio",
        "--media",
        media,
        "--into",
        tmp_path / "new",
    ]
    assert main([*(str(a) for a in arguments), "--handles", "4", "--treatment", str(tmp_path / "t.json")]) == 0
    said = capsys.readouterr().err
    assert (
        "missing.mov 3: no file that can be read is called missing.mov, and none has its timecode and length; "
        "it stays as it is." in said
    )
    assert "11 clips use 3 corrected files; 1 left as they were." in said
    after = otio.schema.Timeline.from_json_file(str(tmp_path / "after.otio"))
    pairs = list(zip(before.find_clips(), after.find_clips(), strict=True))
    assert len(pairs) == 12
    for old, new in pairs:
        assert new.source_range == old.source_range
        assert new.range_in_parent() == old.range_in_parent()
        assert new.metadata == old.metadata
        if "missing" in old.name:
            assert new.media_reference.is_equivalent_to(old.media_reference)
            continue
        file = Path(new.media_reference.target_url.removeprefix("file://"))
        info, times = probe(file)
        held, wanted = new.media_reference.available_range, new.source_range
        assert held.contains(wanted)
        assert held.duration == at(info.frames)
        assert str(info.timecode) == otio.opentime.to_timecode(held.start_time, RATE)
        _same_picture(media, old, file, times, round((wanted.start_time - held.start_time).value))
        new.media_reference = old.media_reference
    assert after.is_equivalent_to(before)


def _same_picture(media: Path, old: otio.schema.Clip, file: Path, times: object, number: int) -> None:
    """The first picture that a clip shows is the one that it showed."""
    original = media / "day_1" / Path(old.media_reference.target_url).name
    first = round((old.source_range.start_time - old.media_reference.available_range.start_time).value)
    shown = read_frame(original, first, probe(original)[1]).luma.astype(int)
    now = read_frame(file, number, times).luma.astype(int) >> 2  # type: ignore[arg-type]
    beside = read_frame(original, first + 1, probe(original)[1]).luma.astype(int)
    assert abs(now - shown).mean() < 1.5
    assert abs(now - beside).mean() > 2 * abs(now - shown).mean()


def test_cuts_behind_a_hole_are_where_they_were(ffmpeg: str, tmp_path: Path) -> None:
    """A phone leaves pictures out; the edit counts on."""
    clip, cut = tmp_path / "phone.mp4", tmp_path / "cut.mp4"
    holed = ("-vf", "select='not(between(n,20,25))'", "-fps_mode", "vfr", "-pix_fmt", "yuv420p", "-c:v", "libx264")
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", "testsrc2=size=160x120:rate=25:duration=3", *holed, clip)
    timeline = otio.schema.Timeline("phone")
    timeline.tracks.append(otio.schema.Track())
    reference = otio.schema.ExternalReference("phone.mp4")
    timeline.tracks[0].append(otio.schema.Clip("phone", reference, span(50, 10)))
    media = Media(*probe(clip))
    uses = read_edit(timeline.to_json_string(), "e.otio")
    (link,), _ = relinked(uses, {clip: media}, 0)
    assert (link.first, link.last) == (44, 53)
    shown = replacement(link, media, cut.as_uri(), (link.first, link.last))
    assert (shown.begins, shown.lasts, shown.rate) == (2, Fraction(10, 25), 25)
    over = replacement(link, media, cut.as_uri(), (15, 30))
    assert (over.begins, over.lasts) == (Fraction(15, 25), Fraction(16 + 6, 25))


def test_files_that_were_renamed_are_known_by_timecode_and_length(media: Path) -> None:
    text = edit().to_json_string().replace("tower.mov", "A002_C007.mov")
    infos = {path: Media(*probe(path)) for path in (media / "day_1").iterdir()}
    links, misses = relinked(read_edit(text, "e.otio"), infos, 0)
    assert {link.key.name for link in links if "A002" in link.use.file} == {"tower.mov"}
    assert [miss.use.file for miss in misses] == ["missing.mov"]


def test_a_file_that_is_too_short_is_a_miss(media: Path) -> None:
    timeline = otio.schema.Timeline("short")
    timeline.tracks.append(otio.schema.Track())
    timeline.tracks[0].append(used("quay.mov", 50, 40))
    infos = {path: Media(*probe(path)) for path in (media / "day_1").iterdir()}
    links, (miss,) = relinked(read_edit(timeline.to_json_string(), "e.otio"), infos, 0)
    assert not links
    assert miss.why == "quay.mov does not reach over the part that is used"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "no JSON"),
        ("[" * 100_000, "nested deeper"),
        ('{"OTIO_SCHEMA": "Clip.2"}', "not an OpenTimelineIO timeline"),
        ('{"OTIO_SCHEMA": "Timeline.1", "tracks": 5}', "one of its tracks is empty"),
        ('{"OTIO_SCHEMA": "Timeline.1", "tracks": null}', "one of its tracks is empty"),
        ('{"OTIO_SCHEMA": "Timeline.1"}', "not an OpenTimelineIO timeline"),
        (
            '{"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [null]}}',
            "its children is empty",
        ),
        ('{"OTIO_SCHEMA": "Timeline.1", "global_start_time": NaN}', "no JSON"),
        (
            '{"OTIO_SCHEMA": "Timeline.1", "metadata": ' + '{"a": ' * (DEEPEST + 5) + "1" + "}" * (DEEPEST + 6),
            "nested deeper",
        ),
        (otio.schema.Timeline("empty").to_json_string(), "no clip of this edit names a file"),
    ],
)
def test_what_is_no_edit(text: str, said: str) -> None:
    with pytest.raises(EditError, match=said) as refused:
        read_edit(text, "boat.otio")
    assert "boat.otio" in str(refused.value)


def test_what_other_programs_keep_in_an_edit_is_theirs() -> None:
    timeline = edit()
    timeline.metadata["elsewhere"] = {"tracks": None, "children": [None, 5]}
    assert len(read_edit(timeline.to_json_string(), "boat.otio")) == len(
        read_edit(edit().to_json_string(), "boat.otio")
    )


def test_results_may_lie_above_the_media_and_count_as_none(media: Path, tmp_path: Path) -> None:
    shoot = tmp_path / "shoot"
    shutil.copytree(media, shoot)
    edit().to_json_file(str(tmp_path / "e.otio"))
    (tmp_path / "t.json").write_text(json.dumps({"motion": {"intent": None}}))
    for into in (tmp_path, shoot / "done", shoot / "done"):
        command = ["edit", tmp_path / "e.otio", tmp_path / "out.otio", "--media", shoot, "--into", into]
        assert main([*(str(word) for word in command), "--treatment", str(tmp_path / "t.json")]) == 0
    assert len(list((shoot / "done").iterdir())) == 2 * len(list(tmp_path.glob("*_corrected.*"))) == 6


def test_an_edit_that_takes_its_reader_down_is_named(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """The library loses its way where an object of its own stands in place of metadata."""
    clip = {"OTIO_SCHEMA": "Clip.1", "name": "a", "metadata": {"OTIO_SCHEMA": "Stack.1"}}
    track = {"OTIO_SCHEMA": "Track.1", "kind": "Video", "children": [clip]}
    document = {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [track]}}
    (tmp_path / "boat.otio").write_text(json.dumps(document))
    (tmp_path / "bytes.otio").write_bytes(bytes(range(256)))
    for name in ("boat.otio", "bytes.otio"):
        command = ["edit", str(tmp_path / name), str(tmp_path / "out.otio"), "--media", str(tmp_path)]
        assert main([*command, "--into", str(tmp_path / "into")]) == 1
        assert capsys.readouterr().err.startswith(f"keen-horizon: {name}: ")
        assert not (tmp_path / "out.otio").exists()


def test_rates_mean_what_the_trade_means() -> None:
    assert exact_rate(23.976) == exact_rate(24000 / 1001) == Fraction(24000, 1001)
    assert exact_rate(29.97) == Fraction(30000, 1001)
    assert exact_rate(59.94) == Fraction(60000, 1001)
    assert [exact_rate(rate) for rate in (24.0, 25.0, 30.0, 48000.0)] == [24, 25, 30, 48000]
