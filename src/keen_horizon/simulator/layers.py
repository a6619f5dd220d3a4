"""Nearer things, painted on upright planes that face the quay, so that they shift against the far town."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.simulator.town import Colour, Thing, boat

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Layer:
    """`texture` (rows, columns, 4) BGRA, colour premultiplied by alpha, on the plane z = `depth`.

    Its top left corner lies at (`left`, `top`) metres, `density` pixels to the metre; it moves sideways
    at `speed` metres a second.
    """

    texture: NDArray[np.uint8]
    depth: float
    left: float
    top: float
    density: float
    speed: float = 0.0

    def pixels(self, rays: Floats, position: Floats, time: float) -> tuple[Floats, Floats]:
        """Columns and rows of world directions (..., 3) seen from a position (3,)."""
        ahead = rays[..., 2] > 0.02
        reach = np.where(ahead, (self.depth - position[2]) / np.where(ahead, rays[..., 2], 1.0), 0.0)
        x = position[0] + reach * rays[..., 0] - self.left - self.speed * time
        y = position[1] + reach * rays[..., 1] - self.top
        columns = np.where(ahead, x * self.density - 0.5, -1e4)
        return np.clip(columns, -1e4, 3e4), np.clip(y * self.density - 0.5, -1e4, 3e4)


def railing_layer(depth: float, left: float, right: float, foot: float) -> Layer:
    """A quayside railing with bollards and lamp posts, from `left` to `right` metres, standing at y = `foot`."""
    density, tall, kerb = 110.0, 4.4, 2.4
    canvas = _canvas(right - left, tall + kerb, density)
    _bar(canvas, density, 0, tall, right - left, tall + kerb, (118, 126, 132))
    _bar(canvas, density, 0, tall, right - left, tall + 0.06, (160, 168, 174))
    for row in range(4):
        _bar(canvas, density, 0, tall + 0.6 * row, right - left, tall + 0.6 * row + 0.02, (92, 98, 104))
        for joint in np.arange(0.7 * (row % 2), right - left, 1.4):
            _bar(canvas, density, joint, tall + 0.6 * row, joint + 0.02, tall + 0.6 * (row + 1), (94, 100, 106))
    iron, light = (46, 44, 42), (78, 76, 72)
    for post in np.arange(0.3, right - left, 1.6):
        _bar(canvas, density, post - 0.035, tall - 1.12, post + 0.035, tall, iron)
        _bar(canvas, density, post - 0.012, tall - 1.12, post + 0.004, tall, light)
        cv2.circle(canvas, (round(post * density), round((tall - 1.14) * density)), 7, (*iron, 255), -1, cv2.LINE_AA)
    for low in (0.22, 0.62, 1.02):
        _bar(canvas, density, 0, tall - low - 0.045, right - left, tall - low, iron)
        _bar(canvas, density, 0, tall - low - 0.045, right - left, tall - low - 0.032, light)
    for post in np.arange(4.0, right - left, 12.8):
        _bar(canvas, density, post - 0.06, 0.55, post + 0.06, tall, iron)
        _bar(canvas, density, post - 0.2, 0.1, post + 0.2, 0.55, (168, 214, 232))
        _bar(canvas, density, post - 0.26, 0.02, post + 0.26, 0.12, iron)
    return _layer(canvas, depth, left, foot - tall, density)


def boat_layer(depth: float, left: float, length: float, hull: Colour, speed: float, seed: int) -> Layer:
    """One boat at sea, sailing sideways."""
    density = 60.0
    thing = boat(np.random.default_rng(seed), np.zeros(3), length, hull)
    margin, tall = 0.3, 1.4 * length
    canvas = _canvas(length + 2 * margin, tall + 0.1 * length, density)
    _paint(canvas, thing, density, margin, tall)
    return _layer(canvas, depth, left, -tall, density, speed)


def walker_layer(depth: float, left: float, foot: float, coat: Colour, speed: float) -> Layer:
    """Somebody who walks by."""
    density, tall = 110.0, 1.78
    canvas = _canvas(0.9, tall, density)
    shapes = [
        ([(0.3, 0.85), (0.62, 0.85), (0.7, 1.76), (0.5, 1.76), (0.46, 1.1), (0.36, 1.76), (0.2, 1.76)], (62, 52, 46)),
        ([(0.24, 0.34), (0.66, 0.34), (0.72, 1.0), (0.2, 1.0)], coat),
        ([(0.62, 0.4), (0.72, 0.42), (0.78, 0.95), (0.68, 0.95)], tuple(0.8 * c for c in coat)),
    ]
    for outline, colour in shapes:
        points = np.round(np.array(outline) * density * 16).astype(np.int32)
        cv2.fillPoly(canvas, [points], (*colour, 255), cv2.LINE_AA, 4)
    cv2.circle(canvas, (round(0.46 * density), round(0.19 * density)), 15, (142, 172, 214, 255), -1, cv2.LINE_AA)
    cv2.ellipse(canvas, (round(0.46 * density), round(0.14 * density)), (15, 10), 0, 180, 360, (40, 46, 60, 255), -1)
    return _layer(canvas, depth, left, foot - tall, density, speed)


def _canvas(wide: float, tall: float, density: float) -> NDArray[np.uint8]:
    return np.zeros((round(tall * density), round(wide * density), 4), np.uint8)


def _bar(
    canvas: NDArray[np.uint8], density: float, left: float, top: float, right: float, low: float, colour: Colour
) -> None:
    corners = np.array([[left, top], [right, top], [right, low], [left, low]])
    cv2.fillPoly(canvas, [np.round(corners * density * 16).astype(np.int32)], (*colour, 255), cv2.LINE_AA, 4)


def _paint(canvas: NDArray[np.uint8], thing: Thing, density: float, margin: float, tall: float) -> None:
    for patch in thing.patches:
        points = (patch.points[:, :2] + [margin, tall]) * density
        cv2.fillPoly(canvas, [np.round(points * 16).astype(np.int32)], (*patch.colour, 255), cv2.LINE_AA, 4)


def _layer(
    canvas: NDArray[np.uint8], depth: float, left: float, top: float, density: float, speed: float = 0.0
) -> Layer:
    """Anti-aliased painting on an empty canvas leaves the colour multiplied by its alpha already."""
    return Layer(canvas, depth, left, top, density, speed)
