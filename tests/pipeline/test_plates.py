"""The straight plate, ST maps, and graphics bent back over untouched pixels, through real files."""

from __future__ import annotations

import json
import shutil
import subprocess
import zipfile
from pathlib import Path

import cv2
import numpy as np
import pytest
from glass import ruled_picture
from scipy.ndimage import map_coordinates

from keen_horizon.cli import main
from keen_horizon.core.errors import LensError, MediaError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import fisheye_of
from keen_horizon.core.lens.plate import plates_of
from keen_horizon.core.lens.stmaps import bend_map, straighten_map
from keen_horizon.core.media.frames import read_frame, read_frames
from keen_horizon.core.media.layers import read_layers
from keen_horizon.core.media.probe import probe
from keen_horizon.core.render.overlay import Layover
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.film import write_pictures

SIZE = Size(640, 360)
LENS = fisheye_of("equidistant", 120)
TREATMENT = Treatment.from_json({"optics": {"lens": {"family": LENS.family, "coefficients": LENS.k}}})


@pytest.fixture(scope="module")
def ruled(tmp_path_factory: pytest.TempPathFactory) -> Path:
    clip = tmp_path_factory.mktemp("plates") / "ruled.mp4"
    write_pictures((ruled_picture(LENS, SIZE) for _ in range(6)), SIZE, 24, clip, quality=10)
    return clip


@pytest.fixture(scope="module")
def document(tmp_path_factory: pytest.TempPathFactory) -> str:
    path = tmp_path_factory.mktemp("treatment") / "lens.json"
    path.write_text(json.dumps(TREATMENT.to_json()))
    return str(path)


@pytest.mark.parametrize("lens", [LENS.k, (1.7,)], ids=["120 degrees", "150 degrees"])
def test_maps_lead_there_and_back(lens: tuple[float, ...]) -> None:
    """Bar 4: a round trip within 0.001 px."""
    treatment = Treatment.from_json({"optics": {"lens": {"family": "equidistant", "coefficients": lens}}})
    plate = plates_of(treatment, SIZE, "x").at(0)
    there, back = straighten_map(plate), bend_map(plate).astype(np.float64)
    rows, columns = np.mgrid[0 : plate.size.height : 5, 0 : plate.size.width : 5]
    s, t, inside = np.moveaxis(there[rows, columns].astype(np.float64), 2, 0)
    x, y = s * SIZE.width - 0.5, (1 - t) * SIZE.height - 0.5
    well = (inside > 0) & (x > 14) & (x < SIZE.width - 15) & (y > 14) & (y < SIZE.height - 15)
    assert well.mean() > 0.3
    places = np.stack([y[well], x[well]])
    again_x = map_coordinates(back[..., 0], places, order=3) * plate.size.width - 0.5
    again_y = (1 - map_coordinates(back[..., 1], places, order=3)) * plate.size.height - 0.5
    error = np.hypot(again_x - columns[well], again_y - rows[well])
    step = np.hypot(*np.gradient(x)) / 5  # of the source for one of the plate
    print(f"round trip: {error.max():.5f} px of the plate")
    assert (error * np.minimum(step[well], 1)).max() < 0.001


def test_maps_are_written_and_read_by_others(ruled: Path, document: str, tmp_path: Path) -> None:
    archive = tmp_path / "maps.zip"
    assert main(["maps", str(ruled), str(archive), "--treatment", document]) == 0
    with zipfile.ZipFile(archive) as opened:
        assert sorted(opened.namelist()) == ["bend.exr", "bend.tif", "maps.json", "straighten.exr", "straighten.tif"]
        opened.extractall(tmp_path)
    facts = json.loads((tmp_path / "maps.json").read_text())
    plate = plates_of(TREATMENT, SIZE, "x").at(0)
    assert (facts["plate_width"], facts["plate_height"]) == (plate.size.width, plate.size.height)
    raw = subprocess.run(
        [shutil.which("ffmpeg") or "ffmpeg", "-v", "error", "-i", "straighten.exr", "-pix_fmt", "gbrpf32le", "-f",
         "rawvideo", "-"], cwd=tmp_path, capture_output=True, check=True,
    ).stdout  # fmt: skip
    green, blue, red = np.frombuffer(raw, "<f4").reshape(3, plate.size.height, plate.size.width)
    made = straighten_map(plate)
    assert np.array_equal(np.stack([red, green, blue], -1), made)
    coded = cv2.imread(str(tmp_path / "bend.tif"), cv2.IMREAD_UNCHANGED)[..., ::-1]
    assert coded.dtype == np.uint16
    assert np.abs(coded / 65535 - bend_map(plate)).max() <= 0.5 / 65535 + 1e-7


def test_maps_of_a_frame_that_is_not_there_are_refused(
    ruled: Path, document: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    archive = tmp_path / "maps.zip"
    for frame in ("-1", "5000"):
        assert main(["maps", str(ruled), str(archive), "--treatment", document, "--frame", frame]) == 1
        assert f"{ruled.name}: there is no frame {frame}; the last one is" in capsys.readouterr().err
    assert not archive.exists()


def test_the_plate_is_straight_and_as_large_as_its_middle(ruled: Path, document: str, tmp_path: Path) -> None:
    assert main(["plate", str(ruled), str(tmp_path / "plate.mp4"), "--treatment", document]) == 0
    plate = plates_of(TREATMENT, SIZE, "x").at(0)
    frame = read_frame(tmp_path / "plate.mp4", 3)
    assert frame.luma.shape == (plate.size.height, plate.size.width)
    assert plate.stage.step * SIZE.width == pytest.approx(plate.size.width, abs=2)
    maps = straighten_map(plate)
    x, y = maps[..., 0] * SIZE.width - 0.5, (1 - maps[..., 1]) * SIZE.height - 0.5
    expected = cv2.remap(read_frame(ruled, 3).luma, x, y, cv2.INTER_CUBIC)
    inside = cv2.erode(maps[..., 2], np.ones((5, 5))) > 0
    assert np.abs(frame.luma.astype(int) - expected)[inside].mean() < 3


def dots(plate: Size, across: int = 7, down: int = 5) -> tuple[np.ndarray, np.ndarray]:
    """Round white dots on clear ground, (rows, columns, 4), and their middles (N, 2)."""
    x, y = np.meshgrid(np.linspace(0.32, 0.68, across) * plate.width, np.linspace(0.32, 0.68, down) * plate.height)
    middles = np.stack([x.ravel(), y.ravel()], -1).round()
    picture = np.zeros((plate.height, plate.width, 4), np.uint8)
    picture[..., :3] = 255
    for middle in middles.astype(int):
        cv2.circle(picture, tuple(int(v) for v in middle), 4, (255, 255, 255, 255), -1, cv2.LINE_AA)
    return picture, middles


def test_graphics_are_bent_back_in_place_and_touch_nothing_else(ruled: Path) -> None:
    """Bar 7: untouched pixels are bit-identical; registration within 0.1 px."""
    plates = plates_of(TREATMENT, SIZE, "x")
    plate = plates.at(2)
    picture, middles = dots(plate.size)
    frame = read_frame(ruled, 2)
    grey = frame.luma.copy()
    grey[:] = 30
    planes = Layover(plates, SIZE).lay_over(
        type(frame)(2, frame.time, (grey, *frame.planes[1:]), 8, frame.tags), picture, "dots.png"
    )
    cover = planes[0].astype(float) - 30
    errors = []
    for x, y in plate.to_source(middles):
        part = cover[round(y) - 12 : round(y) + 13, round(x) - 12 : round(x) + 13]
        rows, columns = np.mgrid[-12:13, -12:13]
        found = np.array([(part * columns).sum(), (part * rows).sum()]) / part.sum() + (round(x), round(y))
        errors.append(np.hypot(*(found - (x, y))))
    print(f"registration: {np.max(errors):.3f} px at worst of {len(errors)} dots")
    assert np.max(errors) <= 0.1
    laid = Layover(plates, SIZE).lay_over(frame, picture, "dots.png")
    far = cv2.dilate((bent_cover(plate, picture) > 0).astype(np.uint8), np.ones((5, 5))) == 0
    assert 0.5 < far.mean() < 1
    assert np.array_equal(laid[0][far], frame.planes[0][far])
    assert all(
        np.array_equal(a[far[::2, ::2]], b[far[::2, ::2]]) for a, b in zip(laid[1:], frame.planes[1:], strict=True)
    )
    assert not np.array_equal(laid[0], frame.planes[0])


KEYED = Treatment.from_json(
    {"optics": {"lens": {"family": LENS.family, "coefficients": LENS.k}, "keys": [
        {"figure": "coefficient_1", "keys": [{"frame": 0, "value": 0.8}, {"frame": 5, "value": 1.3}]}]}}
)  # fmt: skip


def test_a_keyed_lens_has_a_plate_and_maps_of_every_frame(ruled: Path, tmp_path: Path) -> None:
    """One size and scale for all frames; each frame's graphics are bent by the lens it had."""
    plates = plates_of(KEYED, SIZE, "x", (0, 5))
    assert plates.at(0).stage.step == plates.at(5).stage.step
    assert plates.at(0).stage.lens != plates.at(5).stage.lens
    picture, middles = dots(plates.size)
    frame = read_frame(ruled, 0)
    grey = np.full_like(frame.luma, 30)
    layover, found = Layover(plates, SIZE), {}
    for number in (0, 5):
        planes = (grey, *frame.planes[1:])
        laid = layover.lay_over(type(frame)(number, frame.time, planes, 8, frame.tags), picture, "dots.png")
        places = plates.at(number).to_source(middles)
        assert all(laid[0][round(y), round(x)] > 120 for x, y in places)
        found[number] = places
    assert np.abs(found[0] - found[5]).max() > 4
    path = tmp_path / "keyed.json"
    path.write_text(json.dumps(KEYED.to_json()))
    assert main(["maps", str(ruled), str(tmp_path / "maps.zip"), "--treatment", str(path), "--frame", "5"]) == 0
    with zipfile.ZipFile(tmp_path / "maps.zip") as archive:
        assert json.loads(archive.read("maps.json"))["frame"] == 5
        bend = cv2.imdecode(np.frombuffer(archive.read("bend.tif"), np.uint8), cv2.IMREAD_UNCHANGED)[..., ::-1]
    assert np.abs(bend / 65535 - bend_map(plates.at(5))).max() < 1e-5
    assert main(["plate", str(ruled), str(tmp_path / "plate.mp4"), "--treatment", str(path)]) == 0
    for number in (0, 5):
        shown = read_frame(tmp_path / "plate.mp4", number)
        assert shown.luma.shape == (plates.size.height, plates.size.width)
        maps = straighten_map(plates.at(number))
        x, y = maps[..., 0] * SIZE.width - 0.5, (1 - maps[..., 1]) * SIZE.height - 0.5
        expected = cv2.remap(read_frame(ruled, number).luma, x, y, cv2.INTER_CUBIC)
        inside = cv2.erode(maps[..., 2], np.ones((5, 5))) > 0
        assert np.abs(shown.luma.astype(int) - expected)[inside].mean() < 3


def bent_cover(plate: object, picture: np.ndarray) -> np.ndarray:
    maps = bend_map(plate)  # type: ignore[arg-type]
    x = (maps[..., 0] * picture.shape[1] - 0.5).astype(np.float32)
    y = ((1 - maps[..., 1]) * picture.shape[0] - 0.5).astype(np.float32)
    return cv2.remap(picture[..., 3], x, y, cv2.INTER_LINEAR)


def test_a_sequence_and_a_video_are_laid_over_a_file(ruled: Path, document: str, tmp_path: Path) -> None:
    plate = plates_of(TREATMENT, SIZE, "x").size
    picture, _ = dots(plate)
    with zipfile.ZipFile(tmp_path / "graphics.zip", "w") as archive:
        for number in range(3):
            archive.writestr(f"g.{number:04}.png", cv2.imencode(".png", picture)[1].tobytes())
    assert (
        main(["overlay", str(ruled), str(tmp_path / "graphics.zip"), str(tmp_path / "o.mp4"), "--treatment", document])
        == 0
    )
    plain, laid = list(read_frames(ruled)), list(read_frames(tmp_path / "o.mp4"))
    apart = [np.abs(a.luma.astype(int) - b.luma).max() for a, b in zip(plain, laid, strict=True)]
    assert min(apart[:3]) > 60 > max(apart[3:])
    grey = tmp_path / "grey.mp4"
    write_pictures(
        (np.full((plate.height, plate.width, 3), 128, np.uint8) for _ in range(6)), plate, 24, grey, quality=10
    )
    assert main(["overlay", str(ruled), str(grey), str(tmp_path / "v.mp4"), "--treatment", document]) == 0
    covered = read_frame(tmp_path / "v.mp4", 5).luma.astype(int)
    assert np.abs(covered[20:-20, 20:-20] - np.median(covered)).max() < 12


def test_what_cannot_be_laid_over_is_refused_by_name(ruled: Path, tmp_path: Path) -> None:
    with pytest.raises(LensError, match=r"ruled\.mp4: it has no lens yet"):
        plates_of(Treatment(), SIZE, "ruled.mp4")
    info, _ = probe(ruled)
    frame = read_frame(ruled, 0)
    with pytest.raises(MediaError, match=r"tall\.png: its pictures are 100×300, the straight plate is"):
        Layover(plates_of(TREATMENT, SIZE, info.name), SIZE).lay_over(
            frame, np.zeros((300, 100, 4), np.uint8), "tall.png"
        )
    for name, content, complaint in (
        ("odd.png", b"no picture", "not a picture of 8 or 16 bits"),
        ("odd.mp4", b"no video at all", "not a video file"),
    ):
        (tmp_path / name).write_bytes(content)
        with pytest.raises(MediaError, match=complaint):
            next(read_layers(tmp_path / name))
    with zipfile.ZipFile(tmp_path / "empty.zip", "w") as archive:
        archive.writestr("notes.txt", "nothing")
    with pytest.raises(MediaError, match="no PNG or TIFF picture"):
        read_layers(tmp_path / "empty.zip")
