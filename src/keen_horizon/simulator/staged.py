"""Pictures that move before one another by motions that are known: the truth for telling layers apart.

The rearmost sheet is the scene; those before it are walkers, crowds, a held subject, nearer ground, water. Any picture
will do, painted or photographed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities

Picture = NDArray[np.uint8]
Floats = NDArray[np.float64]

OVERSAMPLING = 3  # linear interpolation at this scale shifts what is seen by 0.01 px at most


@dataclass(frozen=True)
class Sheet:
    """A picture (rows, columns) of grey, where it is opaque (rows, columns) of 0 ... 1, and `frame_from_sheet`
    (N, 3, 3) in its pixels.
    """

    picture: Picture
    opaque: Floats
    frame_from_sheet: Floats

    @staticmethod
    def of(picture: Picture, frame_from_sheet: Floats, opaque: Floats | None = None) -> Sheet:
        """A sheet, opaque all over unless told."""
        return Sheet(picture, np.ones(picture.shape) if opaque is None else opaque, frame_from_sheet)


def staged(
    sheets: Sequence[Sheet], size: Size, noise: float = 1.5, blur: float = 0.0, seed: int = 0
) -> Iterator[tuple[Picture, NDArray[np.uint8]]]:
    """Yield grey frames of size `size`, and which sheet (rows, columns) is seen where, from the rearmost 0 on.

    The whole is blurred by `blur` px, and `noise` levels of noise laid on it.
    """
    random = np.random.default_rng(seed)
    finer = [_finer(sheet) for sheet in sheets]
    for number in range(len(sheets[0].frame_from_sheet)):
        frame = np.zeros((size.height, size.width), np.float32)
        seen = np.zeros(frame.shape, np.uint8)
        for place, (sheet, (picture, opaque)) in enumerate(zip(sheets, finer, strict=True)):
            matrix = sheet.frame_from_sheet[number] @ _SHEET_FROM_FINER
            shown, share = _laid(picture, opaque, matrix, size)
            if place == 0:
                frame = shown
                continue
            frame += (shown - frame) * share
            seen[share > 0.5] = place
        if blur:
            frame = cv2.GaussianBlur(frame, (0, 0), blur)
        grain = random.normal(0, noise, frame.shape)
        yield np.clip(frame + grain + 0.5, 0, 255).astype(np.uint8), seen


_HALF = (1 / OVERSAMPLING - 1) / 2
_SHEET_FROM_FINER = np.array([[1 / OVERSAMPLING, 0, _HALF], [0, 1 / OVERSAMPLING, _HALF], [0, 0, 1]])


def _finer(sheet: Sheet) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    rows, columns = sheet.picture.shape
    larger = (columns * OVERSAMPLING, rows * OVERSAMPLING)
    picture = cv2.resize(sheet.picture.astype(np.float32), larger, interpolation=cv2.INTER_LANCZOS4)
    return picture, cv2.resize(sheet.opaque.astype(np.float32), larger, interpolation=cv2.INTER_LINEAR)


def _laid(
    picture: NDArray[np.float32], opaque: NDArray[np.float32], matrix: Floats, size: Size
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    frame = (size.width, size.height)
    shown = cv2.warpPerspective(picture, matrix, frame, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    share = cv2.warpPerspective(opaque, matrix, frame, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    return np.asarray(shown, np.float32), np.asarray(share, np.float32)


def shape(picture: Picture, feather: float = 2.0) -> Floats:
    """How opaque (rows, columns) a rounded figure of a picture's size is: a thing with an outline of its own."""
    rows, columns = picture.shape
    y, x = np.mgrid[-1 : 1 : rows * 1j, -1 : 1 : columns * 1j]
    inside = (1 - (x**4 + y**4) ** 0.25) * min(rows, columns) / 2
    return np.asarray(np.clip(inside / feather, 0, 1))


def laid_out(middle: Sequence[complex] | NDArray[np.complex128], z: NDArray[np.complex128], picture: Picture) -> Floats:
    """`frame_from_sheet` (N, 3, 3) whose middle lies at `middle` (N,) px of the frame, turned and scaled by z (N,)."""
    own = complex((picture.shape[1] - 1) / 2, (picture.shape[0] - 1) / 2)
    places = np.asarray(middle, np.complex128)
    return Similarities(z, places - z * own).matrices()
