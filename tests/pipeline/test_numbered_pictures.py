"""Numbered pictures in and out: the way there and back is exact, gaps and rates are told, alpha stays."""

from __future__ import annotations

import json
import zipfile
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import OpenEXR
import pytest
from numbered import COLUMNS, ROWS, packed, picture

from keen_horizon.cli import main
from keen_horizon.core.errors import MediaError, UnreadableVideoError
from keen_horizon.core.media.frames import gapless, read_frame, read_frames
from keen_horizon.core.media.probe import ClipInfo, probe
from keen_horizon.core.media.scanning import Asked
from keen_horizon.core.media.transfer import coded_srgb, linear


def corrected(source: Path, target: Path, **output: object) -> Path:
    treatment = target.with_suffix(".json")
    treatment.write_text(json.dumps({"motion": {"intent": None}, "output": output}))
    assert main(["correct", str(source), str(target), "--treatment", str(treatment)]) == 0
    return target


def unpacked(path: Path, suffix: str) -> list[np.ndarray]:
    with zipfile.ZipFile(path) as archive:
        names = sorted(name for name in archive.namelist() if name.endswith(suffix))
        return [cv2.imdecode(np.frombuffer(archive.read(n), np.uint8), cv2.IMREAD_UNCHANGED) for n in names]


@pytest.mark.parametrize(
    ("suffix", "kind", "channels", "most"),
    [(".png", np.uint8, 3, 1), (".png", np.uint8, 4, 1), (".png", np.uint16, 4, 16), (".tiff", np.uint16, 3, 16)],
)
def test_there_and_back(tmp_path: Path, suffix: str, kind: type, channels: int, most: int) -> None:
    made = {f"harbour.{1001 + i:05}{suffix}": picture(i, kind, channels) for i in range(4)}
    source = packed(tmp_path / "harbour.zip", made, frames_per_second="24000/1001")
    info, times = probe(source)
    assert (info.frames, info.bit_depth, info.stored_rate) == (4, 8 * np.dtype(kind).itemsize, Fraction(24000, 1001))
    assert info.carried.alpha == (channels == 4)
    assert times[3] == pytest.approx(3 * 1001 / 24000)
    assert ClipInfo.from_json(json.loads(json.dumps(info.to_json()))) == info
    back = unpacked(corrected(source, tmp_path / "back.zip", codec="source", container="source"), suffix[:4])
    for before, after in zip(made.values(), back, strict=True):
        assert after.dtype == before.dtype
        assert np.abs(after.astype(int) - before.astype(int)).max() <= most


def test_a_folder_with_gaps(tmp_path: Path) -> None:
    folder = tmp_path / "quay"
    folder.mkdir()
    for number in (7, 8, 11):
        cv2.imwrite(str(folder / f"quay_{number}.jpg"), picture(number, np.uint8))
    info, times = probe(folder, Asked(rate=30))
    assert (info.frames, info.rate) == (5, 30)
    assert info.troubles == ("Of its pictures 2 are missing; the ones before stand in for them.",)
    frames = list(gapless(read_frames(info.footage(folder), 0, 4, times), 0, times))
    assert [frame.number for frame in frames] == [0, 1, 2, 3, 4]
    assert [frame.repeated for frame in frames] == [False, False, True, True, False]
    assert np.array_equal(frames[2].luma, frames[1].luma)
    assert np.array_equal(read_frame(info.footage(folder), 4, times).luma, frames[4].luma)


def test_a_damaged_picture_is_stood_in_for(tmp_path: Path) -> None:
    folder = tmp_path / "quay"
    folder.mkdir()
    for number in range(4):
        cv2.imwrite(str(folder / f"quay_{number}.png"), picture(number, np.uint8))
    (folder / "quay_2.png").write_bytes((folder / "quay_2.png").read_bytes()[:60])
    info, times = probe(folder)
    frames = list(gapless(read_frames(info.footage(folder), 0, 3, times), 0, times))
    assert [frame.repeated for frame in frames] == [False, False, True, False]
    with pytest.raises(UnreadableVideoError, match=r"quay_2.png"):
        list(read_frames(info.footage(folder), 2, 2, times))


def test_a_rate_that_nobody_tells_is_said(tmp_path: Path) -> None:
    source = packed(tmp_path / "a.zip", {f"a{i}.png": picture(i, np.uint8) for i in range(3)})
    info, _ = probe(source)
    assert info.scan_note == "Numbered pictures, 25 a second, as nothing tells otherwise."


def test_linear_light_in_and_out(tmp_path: Path) -> None:
    folder = tmp_path / "light"
    folder.mkdir()
    light = np.linspace(0, 1, ROWS * COLUMNS, dtype=np.float32).reshape(ROWS, COLUMNS)
    for number in range(2):
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "framesPerSecond": Fraction(24)}
        cover = np.full_like(light, 0.5)
        channels = {"R": light * 0.5, "G": light * 0.5, "B": light[::-1].copy() * 0.5, "A": cover}
        file = folder / f"light.{number:04}.exr"
        OpenEXR.File(header | {"type": OpenEXR.scanlineimage}, channels).write(str(file))
    info, _ = probe(folder)
    assert (info.rate, info.codec, info.carried.alpha) == (24, "exr", True)
    target = corrected(folder, tmp_path / "out.zip", codec="exr")
    with zipfile.ZipFile(target) as archive:
        told = json.loads(archive.read("pictures.json"))
        assert (told["transfer"], told["alpha"]) == ("linear", "multiplied in")
        archive.extract("out.000001.exr", tmp_path)
    found = OpenEXR.File(str(tmp_path / "out.000001.exr"), separate_channels=True).channels()
    assert np.abs(found["A"].pixels.astype(float) - 0.5).max() < 0.001
    assert np.abs(found["R"].pixels.astype(float) - light * 0.5).max() < 0.004


def test_transfers_are_inverse() -> None:
    values = np.linspace(0, 1, 1000, dtype=np.float32)
    assert np.abs(coded_srgb(linear(values, 13)) - values).max() < 1e-5
    assert linear(np.array([0.0, 1.0], np.float32), 1) == pytest.approx([0, 1])
    assert linear(np.array([0.5081], np.float32), 16)[0] == pytest.approx(0.01, rel=0.01)  # 100 of 10,000 cd/m2
    assert linear(np.array([0.75], np.float32), 18)[0] == pytest.approx(0.2650, rel=0.01)  # BT.2408, table 1


@pytest.mark.parametrize(
    ("names", "said"),
    [
        ({}, "no numbered pictures"),
        ({"a1.png": (9, 16), "b1.tif": (9, 16)}, "more than one series"),
        ({"a1.png": (90, 160), "a99999.png": (90, 160)}, "leave too many out"),
    ],
)
def test_what_is_no_series(tmp_path: Path, names: dict[str, tuple[int, int]], said: str) -> None:
    source = packed(tmp_path / "odd.zip", {name: np.zeros((*size, 3), np.uint8) for name, size in names.items()})
    with pytest.raises(MediaError, match=said) as refused:
        probe(source)
    assert "odd.zip" in str(refused.value)


def test_sizes_that_change_are_refused(tmp_path: Path) -> None:
    small = np.zeros((60, 160, 3), np.uint8)
    source = packed(tmp_path / "odd.zip", {"a1.png": picture(0, np.uint8), "a2.png": small})
    info, times = probe(source)
    with pytest.raises(MediaError, match=r"odd.zip: a2.png has another size"):
        list(read_frames(info.footage(source), 0, None, times))
