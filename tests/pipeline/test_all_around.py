"""Spheres from file to file: told, measured, steadied, delivered as spheres or as frames looked out of them."""

from __future__ import annotations

import json
import subprocess
from dataclasses import replace
from pathlib import Path

import av
import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from spheres import SMALL, film, rocking
from truth import run_ffmpeg

from keen_horizon.cli import main
from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.errors import EncodeError, MediaError, TreatmentError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.carried import SoundFacts
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import ClipInfo, probe
from keen_horizon.core.media.scanning import Asked
from keen_horizon.core.media.spherical import camera_of
from keen_horizon.core.media.spherical_tags import XML_BOX, tag_sphere
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.faces import FOCAL
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.rendering import render_clip

FRAMES = 30


@pytest.fixture(scope="module")
def clip(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Rotation]:
    folder, true = tmp_path_factory.mktemp("spheres"), rocking(FRAMES, heading=20)
    silent = film(ffmpeg, folder / "silent.mp4", true)
    sounding = folder / "all_around.mp4"
    run_ffmpeg(ffmpeg, "-i", silent, "-f", "lavfi", "-i", "sine=440:d=1", "-c:v", "copy", "-c:a", "aac", sounding)
    return sounding, true


@pytest.fixture(scope="module")
def measured(clip: tuple[Path, Rotation], tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("measured")
    (folder / "t.json").write_text(json.dumps({"source": {"camera": "sphere"}}))
    arguments = ["measure", str(clip[0]), "--treatment", str(folder / "t.json"), "--out", str(folder / "m.npz")]
    assert main([*arguments, "--json", str(folder / "m.json")]) == 0
    document = json.loads((folder / "m.json").read_text())
    told = Rotation.from_quat([row["world_from_camera"] for row in document["frames"]])
    true = clip[1]
    assert np.degrees((told.inv() * (true[0].inv() * true)).magnitude().max()) < 0.04
    return folder / "m.npz"


def probed(path: Path) -> dict[str, object]:
    """What ffprobe reads of a file: projection, frames, size, and whether there is sound."""
    command = ["ffprobe", "-v", "error", "-count_frames", "-show_streams", "-of", "json", str(path)]
    streams = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)["streams"]
    video = next(stream for stream in streams if stream["codec_type"] == "video")
    sides = video.get("side_data_list", [])
    return {
        "projection": next((side["projection"] for side in sides if "projection" in side), None),
        "frames": int(video["nb_read_frames"]),
        "size": (video["width"], video["height"]),
        "sound": any(stream["codec_type"] == "audio" for stream in streams),
    }


def corrected(clip: Path, measured: Path, target: Path, treatment: dict[str, object]) -> dict[str, object]:
    """A clip corrected by the command line, and its report."""
    document = {"source": {"camera": "sphere"}, **treatment}
    (target.parent / "t.json").write_text(json.dumps(document))
    arguments = ["correct", str(clip), str(target), "--treatment", str(target.parent / "t.json")]
    assert main([*arguments, "--measurement", str(measured), "--report", str(target.parent / "r.json")]) == 0
    return json.loads((target.parent / "r.json").read_text())


@pytest.mark.parametrize("container", ["mp4", "mov", "mkv", "webm"])
def test_a_sphere_comes_out_as_one(clip: tuple[Path, Rotation], measured: Path, tmp_path: Path, container: str) -> None:
    target = tmp_path / f"held.{container}"
    report = corrected(clip[0], measured, target, {"motion": {"intent": "hold"}})
    assert probed(target) == {"projection": "equirectangular", "frames": FRAMES, "size": (1024, 512), "sound": True}
    assert report["shake_after_deg"] < 1e-6 < report["shake_before_deg"]
    info, times = probe(target)
    assert (info.camera, info.spherical) == ("sphere", "sphere")
    if container == "mp4":
        held = measure_clip(target, info, times, 0, FRAMES - 1)
        turns = sphere_turns(held, Sphere(SMALL)).rotations
        assert turns.magnitude().max() * FOCAL < 0.1


def test_a_half_sphere_keeps_to_what_it_saw(ffmpeg: str, tmp_path: Path) -> None:
    size = Size(256, 256)
    half = film(ffmpeg, tmp_path / "half.mp4", rocking(8, degrees=6), size)
    info, times = probe(half, Asked(camera="sphere"))
    measurement = measure_clip(half, info, times, 0, 7)
    treatment = Treatment.from_json({"motion": {"intent": "hold"}})
    facts = render_clip(half, info, times, solve_sphere(measurement, treatment), treatment, tmp_path / "o.mp4")
    assert (facts.width, facts.height) == (512, 256)
    assert facts.gap_pixels > 0.4 * 512 * 256 * 8  # behind the camera is nothing


def test_a_frame_is_looked_out_of_it(clip: tuple[Path, Rotation], measured: Path, tmp_path: Path) -> None:
    keys = [{"frame": 0, "yaw_deg": 170, "field_deg": 80}, {"frame": FRAMES - 1, "yaw_deg": -170, "field_deg": 80}]
    view = {"output": "flat", "size": {"width": 320, "height": 180}, "keys": keys}
    target = tmp_path / "view.mp4"
    report = corrected(clip[0], measured, target, {"motion": {"intent": "hold"}, "view": view})
    assert probed(target) == {"projection": None, "frames": FRAMES, "size": (320, 180), "sound": True}
    assert report["source_px"] == pytest.approx(SMALL.height / np.pi / (160 / np.tan(np.radians(40))), rel=1e-6)
    # The middle of the view, frame by frame, is what the sphere shows there: drawn by the same rays one by one.
    measurement = Measurement.load(measured)
    path = solve_sphere(measurement, Treatment.from_json({"motion": {"intent": "hold"}, "view": view}))
    info, times = probe(clip[0], Asked(camera="sphere"))
    sphere = Sphere(info.display)
    views = {frame.number: frame.luma for frame in read_frames(target, 0, FRAMES - 1)}
    for frame in read_frames(info.footage(clip[0]), 0, FRAMES - 1, times):
        places = np.stack(np.meshgrid(np.arange(100, 220, 8), np.arange(50, 130, 8)), -1).astype(float)
        rays = path.out_camera(frame.number).rays(places) @ path.turn(frame.number).T
        column, row = np.rint(np.moveaxis(sphere.points(rays), -1, 0)).astype(int)
        seen = frame.luma[row, column % SMALL.width].astype(float)
        shown = views[frame.number][places[..., 1].astype(int), places[..., 0].astype(int)].astype(float)
        assert np.corrcoef(seen.ravel(), shown.ravel())[0, 1] > 0.9


def test_the_path_goes_out_as_data_and_beside_what_was_shot(
    clip: tuple[Path, Rotation], measured: Path, tmp_path: Path
) -> None:
    view = {"output": "flat", "size": {"width": 160, "height": 90}, "keys": [{"frame": 0, "yaw_deg": 30}]}
    (tmp_path / "t.json").write_text(
        json.dumps({"source": {"camera": "sphere"}, "motion": {"intent": "hold"}, "view": view})
    )
    asked = [str(clip[0]), str(tmp_path / "o.mp4"), "--treatment", str(tmp_path / "t.json"), "--compare", "side"]
    for name in ("path.json", "path.csv"):
        path = tmp_path / name
        assert main(["correct", *asked, "--measurement", str(measured), "--path", str(path)]) == 0
    assert probed(tmp_path / "o.mp4")["size"] == (320, 90)
    frames = json.loads((tmp_path / "path.json").read_text())["frames"]
    told = Rotation.from_quat([row["world_from_camera"] for row in frames])
    assert np.degrees((told.inv() * (clip[1][0].inv() * clip[1])).magnitude().max()) < 0.04
    held = Rotation.from_quat([row["world_from_steadied"] for row in frames])
    assert (held[0].inv() * held).magnitude().max() < 1e-9
    assert frames[3]["view"] == pytest.approx(
        {"yaw_deg": 30, "pitch_deg": 0, "roll_deg": 0, "field_deg": 90, "roundness": 0}
    )
    header, row = (tmp_path / "path.csv").read_text().splitlines()[:2]
    assert header.startswith("frame,time,world_from_camera_x")
    assert len(row.split(",")) == len(header.split(",")) == 15
    assert main(["correct", *asked, "--measurement", str(measured), "--path", str(tmp_path / "p_2d.csv")]) == 1


def test_the_seam_cannot_be_seen(clip: tuple[Path, Rotation], measured: Path, tmp_path: Path) -> None:
    keys = [{"frame": 0, "yaw_deg": 90}]
    view = {"output": "sphere", "keys": keys}
    corrected(clip[0], measured, tmp_path / "turned.mp4", {"motion": {"intent": None}, "view": view})
    frame = next(iter(read_frames(tmp_path / "turned.mp4", 3, 3)))
    luma = frame.luma.astype(float)
    steps = np.abs(np.diff(luma, axis=1)).mean(0)
    inside = steps[SMALL.width // 4 - 20 : SMALL.width // 4 + 20]  # where the source's sides meet now
    assert inside.max() < 1.5 * np.median(steps)
    across = np.abs(luma[:, 0] - luma[:, -1]).mean()
    assert across < 1.5 * np.median(steps)


def test_only_what_is_a_sphere_is_read_as_one(ffmpeg: str, clip: tuple[Path, Rotation], tmp_path: Path) -> None:
    assert probe(clip[0])[0].may_be_sphere
    assert not probe(clip[0], Asked(camera="frame"))[0].may_be_sphere
    flat = tmp_path / "flat.mp4"
    run_ffmpeg(ffmpeg, "-f", "lavfi", "-i", "testsrc=s=320x180:d=0.2", flat)
    with pytest.raises(MediaError, match=r"flat\.mp4.*equirectangular"):
        probe(flat, Asked(camera="sphere"))
    with pytest.raises(MediaError, match="one eye"):
        camera_of("eyes.mp4", "as found", "stereo", Size(512, 512))
    assert camera_of("cube.mp4", "as found", "other", Size(300, 200)) == "frame"
    with pytest.raises(TreatmentError):
        Treatment.from_json({"source": {"camera": "cube"}})


def test_files_without_room_for_the_mark_are_refused(tmp_path: Path) -> None:
    for name, content in (("a.mp4", b"\0\0\0\x08free"), ("a.mkv", b"\x1a\x45\xdf\xa3\x80"), ("b.mkv", b"")):
        (tmp_path / name).write_bytes(content)
        with pytest.raises(EncodeError, match=name):
            tag_sphere(tmp_path / name, name[-3:])


def test_marking_changes_nothing_else(clip: tuple[Path, Rotation], tmp_path: Path, ffmpeg: str) -> None:
    for container in ("mp4", "mkv"):
        target = tmp_path / f"copy.{container}"
        run_ffmpeg(ffmpeg, "-i", clip[0], "-c", "copy", target)
        before = _packets(target)
        tag_sphere(target, container)
        assert _packets(target) == before


def _packets(path: Path) -> list[tuple[int, int | None, bytes]]:
    with av.open(str(path)) as container:
        return [(packet.stream_index, packet.pts, bytes(packet)) for packet in container.demux() if packet.size]


def test_hostile_marks_do_no_harm(clip: tuple[Path, Rotation], tmp_path: Path, ffmpeg: str) -> None:
    """Boxes of absurd lengths, projections that do not exist, XML that grows: read as something, or refused by name."""
    marked = tmp_path / "marked.mp4"
    run_ffmpeg(ffmpeg, "-i", clip[0], "-c", "copy", marked)
    tag_sphere(marked, "mp4")
    good = marked.read_bytes()
    xml_at, size = good.index(b"<?xml"), len(b'<?xml version="1.0"?>')
    spoiled = [
        good.replace(b"equi", b"cubq"),
        good.replace(b"equi", b"zzzz"),
        good.replace(b"equirectangular", b"donut-shaped   "),
        good[:xml_at] + b"<!DOCTYPE a [<!ENTITY" + good[xml_at + size :],
        *(good.replace(kind, kind, 1)[: good.index(kind) - 4] + length + good[good.index(kind) :]
          for kind in (b"st3d", b"sv3d", b"svhd", b"proj", b"prhd", b"equi", XML_BOX)
          for length in (b"\0\0\0\1", b"\xff\xff\xff\xff")),
    ]  # fmt: skip
    at = good.index(b"st3d")
    spoiled += [good[: at + 8] + bytes([mode]) + good[at + 9 :] for mode in (1, 2, 9)]
    path, cameras, refusals = tmp_path / "spoiled.mp4", set(), []
    for content in spoiled:
        path.write_bytes(content)
        try:
            cameras.add(probe(path)[0].camera)
        except MediaError as error:
            refusals.append(str(error))
    assert cameras
    assert refusals
    assert all("spoiled.mp4" in said for said in refusals)


def test_sound_from_all_around_is_spoken_of_where_it_goes_along(clip: tuple[Path, Rotation]) -> None:
    info = probe(clip[0], Asked(camera="sphere"))[0]
    ambient = SoundFacts(codec="pcm_s16le", channels=4, layout="4.0", rate=48_000)
    ambient_info = replace(info, carried=replace(info.carried, sounds=(ambient,)))

    def told(known: ClipInfo, **output: str) -> bool:
        fates = clip_fates(known, Treatment.from_json({"output": output}))
        return any(fate.what == "sound from all around" for fate in fates)

    assert told(ambient_info, codec="h264", container="mp4")
    assert not told(info, codec="h264", container="mp4")
    assert not told(ambient_info, codec="h264", container="mp4", sound="none")
    assert not told(ambient_info, codec="vp9", container="webm")  # Opus does not take it
    assert not told(ambient_info, codec="png", container="zip")
