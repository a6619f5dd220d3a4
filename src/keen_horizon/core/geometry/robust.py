"""Weights that let what does not fit count little or nothing."""

from __future__ import annotations

import numpy as np

from keen_horizon.core.geometry.similarity import Floats

TUKEY_REACH = 4.685  # spreads: 95 % as efficient as least squares where errors are normal (Holland & Welsch 1977)


def tukey(errors: Floats, spread: Floats | float) -> Floats:
    """Tukey's biweight of errors by their spread, any shape: 1 without error, 0 from `TUKEY_REACH` spreads on."""
    return np.asarray(np.clip(1 - (errors / (TUKEY_REACH * spread)) ** 2, 0, None) ** 2)


def tukey_loss(errors: Floats, spread: Floats | float) -> Floats:
    """What such weights make as small as can be: half the square of small errors over their spread, no more from
    `TUKEY_REACH` spreads on.
    """
    beyond = np.minimum((errors / (TUKEY_REACH * spread)) ** 2, 1.0)
    return np.asarray(TUKEY_REACH**2 / 6 * (1 - (1 - beyond) ** 3))
