"""Films of a painted town with something that passes before it, all motions known."""

from __future__ import annotations

import cv2
import numpy as np
from scipy.ndimage import gaussian_filter1d

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.simulator.plane import town_picture
from keen_horizon.simulator.staged import Picture, Sheet, laid_out, shape, staged

SIZE = Size(640, 360)
RATE = 30
NEARER = 1.6  # how much further near ground moves than the town


def town(sharp: float = 0.0) -> Picture:
    """A grey part of the town's picture, as large as a shaken frame of it needs."""
    grey = cv2.cvtColor(town_picture(), cv2.COLOR_BGR2GRAY)[300:860, 400:1400]
    return np.asarray(cv2.GaussianBlur(grey, (0, 0), sharp) if sharp else grey, np.uint8)


def cloth(width: int, height: int, seed: int = 5) -> Picture:
    """A finely patterned thing: more to follow than all that lies behind it."""
    noise = np.random.default_rng(seed).normal(size=(height, width))
    pattern = cv2.GaussianBlur(noise, (0, 0), 2.0)
    return np.asarray(np.clip(128 + 45 * pattern / pattern.std(), 0, 255), np.uint8)


def swaying(count: int, rms: float, frames: float, seed: int) -> np.ndarray:
    """Smooth noise (count,)."""
    found = gaussian_filter1d(np.random.default_rng(seed).normal(size=count + 60), frames)[30:-30]
    return np.asarray(rms * found / found.std())


def passing(count: int = 90, *, held: bool = False, wide: int = 220, soft: float = 0.0) -> list[Sheet]:
    """The town, shaken, behind a cloth that crosses the frame, or is held in the middle of it."""
    shift = swaying(count, 5, 3, 1) + 1j * swaying(count, 5, 3, 2)
    z = np.exp(swaying(count, 0.003, 4, 3) + 1j * swaying(count, 0.006, 3, 4))
    back, thing = town(soft), cloth(wide, 300)
    pan = 1.2 * (np.arange(count) - count / 2) if held else np.zeros(count)
    across = np.full(count, 320.0) + swaying(count, 2, 6, 6) if held else 100 + 4.5 * np.arange(count) + shift.real
    middle = across + 1j * (205 + (0 if held else shift.imag))
    own = np.exp(swaying(count, 0.004, 8, 8) + 1j * swaying(count, 0.01, 8, 9))
    behind = Sheet.of(back, laid_out(SIZE.centre + shift + pan, z, back))
    return [behind, Sheet.of(thing, laid_out(middle, own, thing), shape(thing))]


def on_ground(count: int = 60) -> list[Sheet]:
    """The town behind nearer ground that takes up the lower half, walked along: which stands still is a question."""
    shift = swaying(count, 4, 3, 1) + 1j * swaying(count, 4, 3, 2)
    along = 1.5 * (np.arange(count) - count / 2) + swaying(count, 6, 9, 5)
    z = np.exp(1j * swaying(count, 0.005, 3, 4))
    back, ground = town(), cloth(1100, 220)
    middle = SIZE.centre.real + 285j + shift + 1.8 * along
    return [
        Sheet.of(back, laid_out(SIZE.centre + shift + along, z, back)),
        Sheet.of(ground, laid_out(middle, z, ground)),
    ]


def two_depths(count: int = 70) -> list[Sheet]:
    """The town behind ground that moves further since it is nearer, as a shaken camera that shifts shows them."""
    shake = swaying(count, 4, 2.5, 1) + 1j * swaying(count, 4, 2.5, 2)
    z, middle = np.exp(1j * swaying(count, 0.004, 3, 3)), SIZE.centre
    back, ground = town(), cloth(1000, 260)
    own = complex(320, 350)
    return [
        Sheet.of(back, laid_out(middle + z * shake, z, back)),
        Sheet.of(ground, laid_out(middle + z * (own - middle + NEARER * shake), z, ground)),
    ]


def measured(sheets: list[Sheet], noise: float = 1.5) -> Measurement:
    """The measurement of a staged film."""
    tracker = MotionTracker.start(SIZE)
    for number, (frame, _) in enumerate(staged(sheets, SIZE, noise)):
        tracker.add(frame, number / RATE)
    return tracker.finish(0)


def true_pairs(sheet: Sheet) -> Similarities:
    """next_from_this (N - 1,) of a sheet."""
    steps = sheet.frame_from_sheet[1:] @ np.linalg.inv(sheet.frame_from_sheet[:-1])
    return Similarities(steps[:, 0, 0] + 1j * steps[:, 1, 0], steps[:, 0, 2] + 1j * steps[:, 1, 2])


def outline(sheet: Sheet, frame: int) -> np.ndarray:
    """A rounded thing's outline (40, 2) on a frame."""
    height, width = sheet.picture.shape
    angle = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    reach = (np.cos(angle) ** 4 + np.sin(angle) ** 4) ** -0.25
    x, y = (1 + np.cos(angle) * reach) / 2 * (width - 1), (1 + np.sin(angle) * reach) / 2 * (height - 1)
    placed = sheet.frame_from_sheet[frame] @ np.stack([x, y, np.ones(40)])
    return np.asarray((placed[:2] / placed[2]).T)


def overlap(one: np.ndarray, other: np.ndarray) -> float:
    """How far two polygons are the same part of the frame, 0 ... 1."""
    masks = [np.zeros((SIZE.height, SIZE.width), np.uint8) for _ in range(2)]
    for mask, polygon in zip(masks, (one, other), strict=True):
        cv2.fillPoly(mask, [polygon.round().astype(np.int32)], 1)
    return float((masks[0] & masks[1]).sum() / max(1, (masks[0] | masks[1]).sum()))
