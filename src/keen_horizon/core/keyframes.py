"""Figures that change over a clip: keys at frames, and what lies between them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import PchipInterpolator

from keen_horizon.core.treatment.figures import Keys
from keen_horizon.core.treatment.parts import Key

Floats = NDArray[np.float64]

DECIMALS = 12  # differences below are none: slopes between them would overflow


def figures_over(tracks: Sequence[Keys], frames: NDArray[np.intp]) -> dict[str, Floats]:
    """Every keyed figure at `frames` (N,)."""
    return {track.figure: keyed(track.keys, 0.0, frames) for track in tracks}


def keyed(keys: Sequence[Key], constant: float, frames: NDArray[np.intp]) -> Floats:
    """Values at `frames` (N,): the constant, or through the keys.

    From a key to the next its `ease` counts: "smooth" as PCHIP (Fritsch & Carlson 1980), which does not overshoot,
    "even" along a straight line, "hold" stays until the next key. Before the first and after the last nothing changes.
    """
    if not keys:
        return np.full(len(frames), float(constant))
    ordered = sorted(keys, key=lambda key: key.frame)
    at, values = np.array([key.frame for key in ordered]), np.array([key.value for key in ordered]).round(DECIMALS)
    if len(at) == 1:
        return np.full(len(frames), values[0])
    within = np.clip(frames, at[0], at[-1])
    before = np.minimum(np.searchsorted(at, within, side="right") - 1, len(at) - 2)
    ease = np.array([key.ease for key in ordered])[before]
    found = np.asarray(PchipInterpolator(at, values)(within), np.float64)
    found = np.where(ease == "even", np.interp(within, at, values), found)
    held = (ease == "hold") & (within < at[before + 1])
    return np.asarray(np.where(held, values[before], found))
