"""Painting the world as seen from one point onto a part of a sphere.

The picture is equirectangular: column and row are proportional to longitude and latitude, over all
longitudes and a band of latitudes. Sky, sea and grain come from tileable noise sampled on planes above
and below, so that they shrink towards the horizon as they should.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.simulator.town import Patch, Thing

Floats = NDArray[np.float64]
Picture = NDArray[np.uint8]

HIGHEST, LOWEST = np.radians(48.0), np.radians(-42.0)
FADING = np.radians(9.0)  # beyond what is painted
HAZE = np.array([222.0, 212.0, 200.0])
_SHIFT = 4


@dataclass(frozen=True)
class Panorama:
    """`picture` (rows, columns, 3) BGR; `scale` pixels per radian; longitude 0 in the middle."""

    picture: Picture
    scale: float

    def pixels(self, rays: Floats) -> tuple[Floats, Floats]:
        """Columns and rows of directions (..., 3)."""
        longitude = np.arctan2(rays[..., 0], rays[..., 2])
        latitude = np.arctan2(-rays[..., 1], np.hypot(rays[..., 0], rays[..., 2]))
        return (longitude + np.pi) * self.scale - 0.5, (HIGHEST - latitude) * self.scale - 0.5

    def all_around(self, shrunk: int = 1) -> Picture:
        """The same picture from pole to pole, averaged down by a factor: what is not painted fades to the usual colour
        of where painting ends. Shrunk last, so that the horizon lies in the middle to a part of a pixel.
        """
        parts = [self.picture]
        for edge, row in ((HIGHEST, self.picture[:1]), (-LOWEST, self.picture[-1:])):
            away = np.arange(round((np.pi / 2 - edge) * self.scale))
            left = np.clip(1 - away / (FADING * self.scale), 0, 1)[:, None, None] ** 2
            beyond = (row * left + row.mean((0, 1)) * (1 - left)).astype(np.uint8)
            parts = [beyond[::-1], *parts] if edge == HIGHEST else [*parts, beyond]
        whole = np.concatenate(parts)
        rows, columns = (side // shrunk for side in whole.shape[:2])
        return np.asarray(cv2.resize(whole, (columns, rows), interpolation=cv2.INTER_AREA), np.uint8)

    def smaller(self, factor: int) -> Panorama:
        """The same picture averaged down, for lenses that see much at once."""
        rows, columns = (side // factor for side in self.picture.shape[:2])
        picture = cv2.resize(self.picture, (columns, rows), interpolation=cv2.INTER_AREA)
        return Panorama(np.asarray(picture, np.uint8), self.scale / factor)


def paint_panorama(things: list[Thing], eye: Floats, width: int = 9216, seed: int = 11) -> Panorama:
    """Paint sky, sea and things (far to near) as seen from `eye` (x, y, z)."""
    random = np.random.default_rng(seed)
    scale = width / (2 * np.pi)
    rows = round((HIGHEST - LOWEST) * scale)
    canvas = _sky_and_sea(random, width, rows, scale, eye)
    view = Panorama(canvas, scale)
    _hills(view, random)
    ground = np.zeros(canvas.shape[:2], np.uint8)
    facing = [patch for thing in things for patch in thing.patches if _faces(patch, eye)]
    for patch, (outline, distance) in zip(facing, _outlines(view, [p.points - eye for p in facing]), strict=True):
        if outline is None:
            continue
        clear = np.exp(-distance / 900)
        colour = tuple(float(c * clear + h * (1 - clear)) for c, h in zip(patch.colour, HAZE, strict=True))
        cv2.fillPoly(canvas, [outline], colour, cv2.LINE_AA, _SHIFT)
        cv2.fillPoly(ground, [outline], min(255.0, 110 * patch.grain), cv2.LINE_8, _SHIFT)
    _grain(canvas, ground, random)
    return view


def tileable_noise(random: np.random.Generator, size: int, power: float) -> NDArray[np.float32]:
    """Periodic noise (size, size) of zero mean and unit spread, spectrum falling with `power`."""
    frequency = np.hypot(np.fft.fftfreq(size)[:, None], np.fft.rfftfreq(size)[None, :])
    frequency[0, 0] = 1
    spectrum = np.fft.rfft2(random.standard_normal((size, size))) / frequency**power
    spectrum[0, 0] = 0
    noise = np.fft.irfft2(spectrum, (size, size))
    return np.asarray(noise / noise.std(), np.float32)


def _sky_and_sea(random: np.random.Generator, width: int, rows: int, scale: float, eye: Floats) -> Picture:
    longitude = ((np.arange(width) + 0.5) / scale - np.pi).astype(np.float32)
    latitude = (HIGHEST - (np.arange(rows) + 0.5) / scale).astype(np.float32)
    horizon = round(float(HIGHEST * scale))
    out = np.empty((rows, width, 3), np.uint8)
    out[:horizon] = _sky(random, longitude, latitude[:horizon])
    out[horizon:] = _sea(random, longitude, latitude[horizon:], float(-eye[1]))
    return out


def _sky(random: np.random.Generator, longitude: NDArray[np.float32], latitude: NDArray[np.float32]) -> Picture:
    step = 2
    lon, lat = longitude[::step], latitude[::step]
    rise = np.clip(lat / HIGHEST, 0, 1)[:, None]
    low, high = np.array([226.0, 214.0, 200.0]), np.array([188.0, 138.0, 84.0])
    gradient = low + (high - low) * (rise**0.62)[..., None]
    reach = 1 / np.tan(np.maximum(lat, 0.01))[:, None]
    noise = tileable_noise(random, 1024, 1.55)
    cloud = 0.0
    for size, weight in ((0.16, 0.8), (0.7, 0.35)):
        u = (np.sin(lon)[None, :] * reach / 12 / size * 1024).astype(np.float32)
        v = (np.cos(lon)[None, :] * reach / 12 / size * 1024).astype(np.float32)
        cloud = cloud + weight * _wrapped(noise, u, v)
    cover = 1 / (1 + np.exp(-(cloud - 0.55) * 3.2)) * np.clip((lat - 0.02) / 0.1, 0, 1)[:, None]
    sun = np.clip(np.cos(lon + 0.75), 0, 1)[None, :] ** 8 * np.exp(-((lat - 0.35) ** 2) / 0.2)[:, None]
    white = np.array([246.0, 243.0, 240.0]) * (0.9 + 0.1 * np.clip(cloud, -1, 1))[..., None]
    picture = gradient + (white - gradient) * (0.85 * cover)[..., None] + 18 * sun[..., None]
    small = np.clip(picture, 0, 255).astype(np.uint8)
    return np.asarray(cv2.resize(small, (len(longitude), len(latitude)), interpolation=cv2.INTER_CUBIC), np.uint8)


def _sea(
    random: np.random.Generator, longitude: NDArray[np.float32], latitude: NDArray[np.float32], height: float
) -> Picture:
    reach = height / np.tan(np.maximum(-latitude, 2e-4))
    noise = tileable_noise(random, 1024, 1.1)
    waves = np.zeros((len(latitude), len(longitude)), np.float32)
    for size, weight in ((7.0, 1.0), (29.0, 0.8), (160.0, 0.7)):
        fade = np.clip(1.6 - reach / (size * 22), 0, 1)
        near = np.flatnonzero(fade > 0)
        u = (np.sin(longitude)[None, :] * reach[near, None] / size * 1024).astype(np.float32)
        v = (np.cos(longitude)[None, :] * reach[near, None] / size * 1024 * 2.4).astype(np.float32)
        waves[near] += weight * fade[near, None].astype(np.float32) * _wrapped(noise, u, v)
    grazing = np.exp(-np.clip(-latitude, 0, 1) * 5.5)[:, None]
    deep, bright = np.array([110.0, 92.0, 40.0]), np.array([206.0, 190.0, 160.0])
    mix = np.clip(0.16 + 0.7 * grazing + 0.13 * waves, 0, 1).astype(np.float32)
    glint = np.clip(waves - 1.5, 0, 1) * np.clip(np.cos(longitude + 0.75), 0, 1)[None, :] ** 6
    out = np.empty((*waves.shape, 3), np.uint8)
    for channel in range(3):
        value = deep[channel] + (bright[channel] - deep[channel]) * mix + 90 * glint
        out[..., channel] = np.clip(value, 0, 255)
    return out


def _wrapped(noise: NDArray[np.float32], u: NDArray[np.float32], v: NDArray[np.float32]) -> NDArray[np.float32]:
    size = noise.shape[0]
    padded = cv2.copyMakeBorder(noise, 0, 1, 0, 1, cv2.BORDER_WRAP)
    return np.asarray(cv2.remap(padded, np.mod(u, size), np.mod(v, size), cv2.INTER_LINEAR), np.float32)


def _hills(view: Panorama, random: np.random.Generator) -> None:
    horizon = HIGHEST * view.scale
    columns = np.arange(0, view.picture.shape[1] + 8, 8)
    lon = columns / view.scale - np.pi
    for layer, (colour, tall) in enumerate(
        (((196, 184, 162), 0.075), ((164, 158, 128), 0.06), ((120, 132, 104), 0.05))
    ):
        shape = sum(np.sin(lon * k + random.uniform(0, 6.28)) / k for k in (2.3, 5.1, 9.7, 17.3, 31.0, 57.0))
        envelope = np.clip(np.cos((lon + 0.25 * (layer - 1)) / 1.25), 0, 1) ** 0.8
        top = horizon - (tall * envelope * (0.75 + 0.45 * np.asarray(shape)) * view.scale)
        stands = envelope > 0  # elsewhere the sea's horizon is free
        foot = [[columns[stands][-1], horizon + 2], [columns[stands][0], horizon + 2]]
        outline = np.concatenate([np.stack([columns[stands], top[stands]], -1), foot])
        points = np.round(outline * (1 << _SHIFT)).astype(np.int32)
        cv2.fillPoly(view.picture, [points], colour, cv2.LINE_AA, _SHIFT)


def _faces(patch: Patch, eye: Floats) -> bool:
    return patch.normal is None or bool(patch.normal @ (eye - patch.points[0]) > 0)


def _outlines(view: Panorama, polygons: list[Floats]) -> Iterator[tuple[NDArray[np.int32] | None, float]]:
    """The outlines of polygons (K, 3) in pixels, their edges split so that straight lines bend as they must, and how
    near each comes; None for one that crosses the seam behind the camera, where nothing stands.
    """
    counts = np.array([len(polygon) for polygon in polygons])
    starts = np.cumsum(counts) - counts
    points = np.concatenate(polygons)
    following = np.arange(len(points)) + 1
    following[starts + counts - 1] = starts
    edges, distance = points[following] - points, np.linalg.norm(points, axis=1)
    seen = np.linalg.norm(edges, axis=1) / np.maximum(np.minimum(distance[following], distance), 1.0)
    parts = np.clip((np.degrees(seen) / 1.5).astype(int), 1, 80)
    edge, begin = np.repeat(np.arange(len(points)), parts), np.repeat(np.cumsum(parts) - parts, parts)
    share = (np.arange(len(edge)) - begin) / parts[edge]
    columns, rows = view.pixels(points[edge] + edges[edge] * share[:, None])
    pixels = np.round(np.stack([columns, rows], -1) * (1 << _SHIFT)).astype(np.int32)
    ends = np.cumsum(np.add.reduceat(parts, starts))
    nearest = np.minimum.reduceat(distance, starts)
    for first, last, near in zip(np.r_[0, ends[:-1]], ends, nearest, strict=True):
        across = np.ptp(columns[first:last])
        yield pixels[first:last] if across <= view.picture.shape[1] / 2 else None, float(near)


def _grain(canvas: Picture, ground: NDArray[np.uint8], random: np.random.Generator) -> None:
    """Plaster, stone and tiles are never even: fine and coarse noise over everything that is built."""
    fine = tileable_noise(random, 1024, 0.35) + 0.8 * tileable_noise(random, 1024, 1.2)
    rows, columns = ground.shape
    for left in range(0, columns, 1024):
        part = slice(left, left + 1024)
        tile = np.tile(fine, (rows // 1024 + 1, 1))[:rows, : min(1024, columns - left)]
        gain = 1 + tile * ground[:, part].astype(np.float32) * (0.045 / 110)
        canvas[:, part] = np.clip(canvas[:, part] * gain[..., None], 0, 255)
