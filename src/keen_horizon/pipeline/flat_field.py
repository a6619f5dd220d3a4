"""Measuring fall-off and dead edges from something plain: a clip of a wall or a sky, or a picture of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError, MediaError, Stopped
from keen_horizon.core.finding.dead import found_dead
from keen_horizon.core.finding.falloff import FoundFalloff
from keen_horizon.core.finding.flat_field import falloff_of_plain
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import ClipInfo, probe
from keen_horizon.core.media.transfer import linear
from keen_horizon.pipeline.light import DEAD_CELLS, coded_cells, told_falloff

FRAMES = 16  # at most, whose mean is taken
FURTHEST = 300  # frames from the first: a wall does not change
CELLS = 120  # across the frame, that the fall-off is fitted to
PICTURES = (".png", ".jpg", ".jpeg", ".tif", ".tiff")
SRGB = 13  # pictures are coded by it (ITU-T H.273)
ASPECT_TOLERANCE = 0.01
LUMA = np.array([0.0722, 0.7152, 0.2126], np.float32)  # of B, G and R (ITU-R BT.709)


def measure_flat_field(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    frames: tuple[int, int],
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> FoundFalloff:
    """What frames `frames` (first, last) of a clip of something plain show. Raises MediaError, Stopped."""
    first, last = frames[0], min(frames[1], frames[0] + FURTHEST)
    wanted = set(np.linspace(first, last, FRAMES).round().astype(int).tolist())
    total, transfer = np.zeros((1, 1), np.float32), 0
    for frame in read_frames(info.footage(source), first, last, times):
        if should_stop():
            raise Stopped(f"{info.name}: measuring the glass was stopped.")
        if frame.number in wanted:
            total = total + coded_cells(frame, info.display, DEAD_CELLS) / len(wanted)
            transfer = frame.tags.transfer
        progress(frame.number - first + 1, last - first + 1)
    return _found(total, transfer)


def falloff_of_field(field: Path, size: Size) -> FoundFalloff:
    """What a file of something plain shows of the glass of clips of a size. Raises MediaError, LensError."""
    if field.suffix.lower() not in PICTURES:
        info, times = probe(field)
        _check_shape(field.name, info.display.width / info.display.height, size)
        return measure_flat_field(field, info, times, (0, info.frames - 1))
    picture = cv2.imread(str(field), cv2.IMREAD_COLOR | cv2.IMREAD_ANYDEPTH)
    if picture is None or picture.dtype not in (np.uint8, np.uint16):
        raise MediaError(f"{field.name}: no picture of 8 or 16 bits could be read from it. Give a PNG, JPEG or TIFF.")
    _check_shape(field.name, picture.shape[1] / picture.shape[0], size)
    luma = (picture @ LUMA).astype(np.float32) / np.iinfo(picture.dtype).max
    across = min(DEAD_CELLS, luma.shape[1])
    cells = cv2.resize(luma, (across, round(across * luma.shape[0] / luma.shape[1])), interpolation=cv2.INTER_AREA)
    return _found(cells, SRGB)


def told_field(name: str, found: FoundFalloff) -> str:
    """What there is to say of the fall-off that a file told. Raises LensError where it does not tell."""
    if not found.enough:
        raise LensError(
            f"{name}: it does not tell how light falls off (known within {100 * found.doubt:.1f} % at worst). Film "
            "something plain that is lit evenly, a wall or a clear sky, neither dark nor clipped, out of focus."
        )
    return told_falloff(name, found)


def _found(cells: NDArray[np.float32], transfer: int) -> FoundFalloff:
    dead = found_dead(cells, linear(cells, transfer))
    size = (CELLS, max(1, round(CELLS * cells.shape[0] / cells.shape[1])))
    coarse = np.asarray(cv2.resize(cells, size, interpolation=cv2.INTER_AREA), np.float32)
    return falloff_of_plain(coarse, linear(coarse, transfer), dead)


def _check_shape(name: str, aspect: float, size: Size) -> None:
    wanted = size.width / size.height
    if abs(aspect / wanted - 1) > ASPECT_TOLERANCE:
        raise LensError(
            f"{name}: it is {aspect:.3f} times as wide as tall, the clip {wanted:.3f}: not the same camera mode. Film "
            "the wall with the settings of the clip."
        )
