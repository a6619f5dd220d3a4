"""Fall-off undone in a source frame's own planes, in linear light, before they are resampled.

Where the transfer is a power law, multiplying light is one straight line of coded values above its toe and another one
below (see `PowerLaw`), so luma needs no conversion of colour and chroma no more than a factor. For PQ and HLG luma goes
through linear light, and chroma by the slope of what luma does there.
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.mapping.frame_map import PlaneGrid
from keen_horizon.core.mapping.light import falloff_of, transfer_of
from keen_horizon.core.media.colour import code_range, whole
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Plane
from keen_horizon.core.media.transfer import PowerLaw, coded, linear, power_law
from keen_horizon.core.treatment.optics import FalloffSettings

Values = NDArray[np.float32]

ROWS = 32  # that are worked on at a time, so that they stay in a processor's cache
NEAR = np.float32(1 / 512)  # of the coded range: how far apart the slope of a curve is taken


def lifter_of(settings: FalloffSettings | None, size: Size, coded_size: Size) -> Lifter | None:
    """What undoes the fall-off of frames of display size `size`, stored as `coded_size`; None where nothing does."""
    if settings is None or not settings.amount:
        return None
    return Lifter(falloff_of(settings), size, coded_size, transfer_of(settings))


class Lifter:
    """Lifts the light of frames of display size `size`, stored as `coded_size`.

    `transfer` stands in for what files say of theirs (ITU-T H.273); 0: it does not.
    """

    def __init__(self, falloff: Falloff, size: Size, coded_size: Size, transfer: int = 0) -> None:
        self.falloff, self.size, self.coded_size, self.transfer = falloff, size, coded_size, transfer
        self._factors = lru_cache(maxsize=4)(self._made_factors)

    def lifted(self, frame: Frame) -> Frame:
        """The frame as it would be without the fall-off."""
        transfer = self.transfer or frame.tags.transfer
        law = power_law(transfer)
        luma, *colours = frame.planes
        exponent = law.exponent if law is not None else 1.0
        light = self._factors(luma.shape, frame.tags.site, exponent)
        coarse = self._factors(colours[0].shape, frame.tags.site, exponent)
        black, of_luma, _ = code_range(frame.bit_depth, frame.tags)
        beside = cv2.resize(luma, colours[0].shape[::-1], interpolation=cv2.INTER_AREA)
        shares = (beside.astype(np.float32) - np.float32(black)) / np.float32(of_luma)
        if law is not None:
            bright = _lifted_by_law(luma, light, law, (black, of_luma), frame.bit_depth)
            slopes = _slopes_by_law(shares, coarse, law)
        else:
            codes = (luma.astype(np.float32) - np.float32(black)) / np.float32(of_luma)
            bright = whole(_through_light(codes, light, transfer) * of_luma + black, frame.bit_depth)
            slopes = _slopes(shares, coarse, transfer)
        middle = np.float32(128 << (frame.bit_depth - 8))
        lifted = (whole((plane - middle) * slopes + middle, frame.bit_depth) for plane in colours)
        return replace(frame, planes=(bright, *lifted))

    def _made_factors(self, shape: tuple[int, int], site: int, exponent: float) -> Values:
        """What the light of each sample of a plane is multiplied by, to a power."""
        rows, columns = shape
        steps = (round(self.coded_size.width / columns), round(self.coded_size.height / rows))
        grid = PlaneGrid.of(shape, steps, resized(self.size, self.coded_size), site)
        (across, _, left), (_, down, top) = grid.display_from_plane[:2]
        middle, half = self.size.centre, self.size.half_diagonal
        x = (across * np.arange(columns) + left - middle.real) / half
        y = (down * np.arange(rows) + top - middle.imag) / half
        lift = self.falloff.lift(self.falloff.squares(x[None], y[:, None]))
        return np.asarray(lift**exponent, np.float32)


def _lifted_by_law(plane: Plane, factors: Values, law: PowerLaw, codes: tuple[float, float], depth: int) -> Plane:
    """Luma under a power law; `factors` are the lift to the law's exponent, `codes` those of black and of the range."""
    black, span = codes
    zero = np.float32(black - law.offset * span)
    out = np.empty_like(plane)
    for row in range(0, len(plane), ROWS):
        part, factor = plane[row : row + ROWS].astype(np.float32), factors[row : row + ROWS]
        lifted = (part - zero) * factor + zero
        if law.toe:
            lifted = np.minimum(lifted, (part - np.float32(black)) * _toe_slope(factor, law) + np.float32(black))
        out[row : row + ROWS] = whole(lifted, depth)
    return out


def _toe_slope(factors: Values, law: PowerLaw) -> Values:
    """How steep the line is that stands below the toe: from black to where the other line begins."""
    steep, less = np.float32(1 + law.offset / law.toe), np.float32(law.offset / law.toe)
    return factors * steep - less


def _slopes_by_law(shares: Values, factors: Values, law: PowerLaw) -> Values:
    if not law.toe:
        return factors
    return np.where(shares < law.toe, _toe_slope(factors, law), factors)


def _through_light(codes: Values, lift: Values, transfer: int) -> Values:
    return coded(linear(codes, transfer) * lift, transfer)


def _slopes(shares: Values, lift: Values, transfer: int) -> Values:
    """How much steeper coded values stand after lifting, at `shares` of the coded range."""
    low, high = np.clip(shares - NEAR, 0, 1), np.clip(shares + NEAR, 0, 1)
    risen = _through_light(high, lift, transfer) - _through_light(low, lift, transfer)
    return np.asarray(risen / np.maximum(high - low, NEAR), np.float32)
