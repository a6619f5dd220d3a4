"""A treatment's fall-off, dead edge, fringes and haze as the renderer and a viewer undo them."""

from __future__ import annotations

from typing import Any

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.core.glass.haze import REACH, STARTS, WHOLE, Haze
from keen_horizon.core.mapping.packed import packed
from keen_horizon.core.media.transfer import PowerLaw, power_law
from keen_horizon.core.treatment.optics import FalloffSettings, FringeSettings, Optics

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


def drawn_dead(settings: FalloffSettings | None, zoom: float, limit: float) -> dict[str, Any] | None:
    """Where a viewer takes the source's picture to end: a circle, `radius` None where there is none, and `sides` as
    outward normals with their distance from the middle; half-diagonals. `zoom` hides it, under a zoom limit of `limit`.
    """
    edge = None if settings is None else settings.picture_ends
    if edge is None:
        return None
    return {
        "radius": edge.radius,
        "centre": [edge.centre.real, edge.centre.imag],
        "sides": [[float(np.cos(way)), float(np.sin(way)), far] for way, far in edge.sides],
        "zoom": round(zoom, 4),
        "limit": limit,
    }


def fringe_of(settings: FringeSettings) -> Fringe:
    """The fringes that settings describe."""
    return Fringe(settings.red, settings.blue, complex(settings.centre_x, settings.centre_y))


def drawn_fringe(settings: FringeSettings | None) -> dict[str, Any] | None:
    """What a viewer samples red and blue by: how much further out than green, as a share of the way from `centre`, in
    the middle and a half-diagonal out, between which it goes as the squared radius.
    """
    fringe = None if settings is None else fringe_of(settings)
    if fringe is None or not fringe.any:
        return None
    return {
        "red": [fringe.red[0], sum(fringe.red)],
        "blue": [fringe.blue[0], sum(fringe.blue)],
        "centre": [fringe.centre.real, fringe.centre.imag],
    }


def undone_glass(optics: Optics, size: Size) -> dict[str, float]:
    """How much of the glass is undone, what is: `corner_stops` that the corner lifted most is lifted, its noise along
    with it, and `red_px`, `blue_px` that colours are moved inwards at a corner.
    """
    figures: dict[str, float] = {}
    if optics.falloff is not None and optics.falloff.amount:
        figures["corner_stops"] = round(falloff_of(optics.falloff).corner_stops(size.width, size.height), 3)
    fringe = None if optics.fringe is None else fringe_of(optics.fringe)
    if fringe is not None and fringe.any:
        red, blue = fringe.at_corner(size.half_diagonal)
        figures |= {"red_px": round(red, 3), "blue_px": round(blue, 3)}
    return figures


def haze_of(settings: FringeSettings | None) -> Haze | None:
    """The haze that settings take away, if any."""
    if settings is None or not settings.haze.amount:
        return None
    haze = settings.haze
    return Haze(haze.amount, haze.hue_deg, haze.width_deg)


def drawn_haze(settings: FringeSettings | None) -> dict[str, Any] | None:
    """What a viewer takes saturation by: see `core.glass.haze`; `reach` is a share of the picture's width."""
    haze = haze_of(settings)
    if haze is None:
        return None
    return {
        "amount": haze.amount,
        "direction": list(haze.direction),
        "half_width": haze.half_width,
        "reach": REACH,
        "edge": [STARTS, WHOLE],
    }
