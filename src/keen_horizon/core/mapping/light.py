"""A treatment's fall-off as the renderer and a viewer undo it."""

from __future__ import annotations

from typing import Any

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.mapping.packed import packed
from keen_horizon.core.media.transfer import PowerLaw, power_law
from keen_horizon.core.treatment.optics import FalloffSettings

TRANSFERS = {"bt709": 1, "srgb": 13, "linear": 8, "pq": 16, "hlg": 18}  # ITU-T H.273, table 3
ABOUT = PowerLaw(0.0, 0.5, 0.0)  # stands in for PQ and HLG in a viewer: the lower half of HLG
TABLE = 256


def falloff_of(settings: FalloffSettings) -> Falloff:
    """The fall-off that settings describe."""
    centre = complex(settings.centre_x, settings.centre_y)
    return Falloff(settings.coefficients, centre, settings.amount, settings.lift_limit_stops)


def transfer_of(settings: FalloffSettings, told: int = 0) -> int:
    """The transfer that settings choose, else the one that is told (ITU-T H.273)."""
    return told if settings.transfer is None else TRANSFERS[settings.transfer]


def drawn_light(settings: FalloffSettings | None, told: int, size: Size) -> dict[str, Any] | None:
    """What a viewer multiplies coded R, G and B by: (v + offset) f - offset, or below `toe` as a line to black does.

    `factors` are float32 in base64, at even steps of the squared radius up to `reach` squared, from `centre`.
    """
    if settings is None or not settings.amount:
        return None
    falloff = falloff_of(settings)
    law = power_law(transfer_of(settings, told)) or ABOUT
    lift = falloff.lift(np.linspace(0, falloff.reach**2, TABLE))
    return {
        "factors": packed(lift**law.exponent),
        "reach": falloff.reach,
        "centre": [settings.centre_x, settings.centre_y],
        "offset": law.offset,
        "toe": law.toe,
        "corner_stops": round(falloff.corner_stops(size.width, size.height), 3),
    }
