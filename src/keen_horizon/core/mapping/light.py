"""A treatment's fall-off, dead edge, fringes and haze as the renderer and a viewer undo them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.core.glass.haze import REACH, STARTS, WHOLE, Haze
from keen_horizon.core.keyframes import figures_over
from keen_horizon.core.mapping.packed import packed
from keen_horizon.core.media.transfer import PowerLaw, power_law
from keen_horizon.core.treatment.optics import FalloffSettings, FringeSettings, Optics

TRANSFERS = {"bt709": 1, "srgb": 13, "linear": 8, "pq": 16, "hlg": 18}  # ITU-T H.273, table 3
ABOUT = PowerLaw(0.0, 0.5, 0.0)  # stands in for PQ and HLG in a viewer: the lower half of HLG
TABLE = 256
NODES = 48  # over a clip, that changing glass is lowered at, besides its keys

Frames = NDArray[np.integer]  # in order


def falloff_of(settings: FalloffSettings) -> Falloff:
    """The fall-off that settings describe."""
    centre = complex(settings.centre_x, settings.centre_y)
    return Falloff(settings.coefficients, centre, settings.amount, settings.lift_limit_stops)


def transfer_of(settings: FalloffSettings, told: int = 0) -> int:
    """The transfer that settings choose, else the one that is told (ITU-T H.273)."""
    return told if settings.transfer is None else TRANSFERS[settings.transfer]


def falloff_at(settings: FalloffSettings, frame: int) -> FalloffSettings:
    """The settings that count for a frame."""
    if not settings.keys:
        return settings
    keyed = _keyed(settings, frame)
    coefficients = (*settings.coefficients, 0.0, 0.0)[:3]
    update = {
        "coefficients": tuple(keyed.get(f"falloff_{i}", c) for i, c in enumerate(coefficients, 1)),
        "centre_x": keyed.get("falloff_x", settings.centre_x),
        "centre_y": keyed.get("falloff_y", settings.centre_y),
        "amount": keyed.get("falloff_amount", settings.amount),
    }
    return settings.model_copy(update=update | {"keys": ()})


def fringe_at(settings: FringeSettings, frame: int) -> FringeSettings:
    """The settings that count for a frame."""
    if not settings.keys:
        return settings
    keyed = _keyed(settings, frame)
    update = {
        "red": tuple(keyed.get(f"red_{i}", figure) for i, figure in enumerate(settings.red, 1)),
        "blue": tuple(keyed.get(f"blue_{i}", figure) for i, figure in enumerate(settings.blue, 1)),
        "centre_x": keyed.get("fringe_x", settings.centre_x),
        "centre_y": keyed.get("fringe_y", settings.centre_y),
    }
    return settings.model_copy(update=update | {"keys": ()})


def _keyed(settings: FalloffSettings | FringeSettings, frame: int) -> dict[str, float]:
    values = figures_over(settings.keys, np.array([frame]))
    return {name: float(value[0]) for name, value in values.items()}


def nodes_of(settings: FalloffSettings | FringeSettings, frames: Frames) -> list[int]:
    """Frames between which the settings change evenly, nearly; the first alone where they do not change."""
    first, last = int(frames[0]), int(frames[-1])
    if not settings.keys:
        return [first]
    keys = np.array([key.frame for track in settings.keys for key in track.keys])
    spread = np.linspace(first, last, min(NODES, len(frames))).round().astype(int)
    return [int(node) for node in np.unique(np.clip(np.concatenate([spread, keys, keys - 1]), first, last))]


def drawn_light(settings: FalloffSettings | None, told: int, size: Size, frames: Frames) -> dict[str, Any] | None:
    """What a viewer multiplies coded R, G and B of `frames` by: (v + offset) f - offset, or below `toe` as a line to
    black does.

    `factors` are float32 in base64, a row for each of the frames `nodes`, at even steps of the squared radius up to
    `reach` squared, from its one of `centres`. Between nodes they change evenly.
    """
    if settings is None:
        return None
    nodes = nodes_of(settings, frames)
    falloffs = [falloff_of(falloff_at(settings, node)) for node in nodes]
    if not any(falloff.amount for falloff in falloffs):
        return None
    law = power_law(transfer_of(settings, told)) or ABOUT
    reach = max(falloff.reach for falloff in falloffs)
    lifts = np.stack([falloff.lift(np.linspace(0, reach**2, TABLE)) for falloff in falloffs])
    return {
        "nodes": nodes,
        "factors": packed(lifts**law.exponent),
        "reach": reach,
        "centres": [[falloff.centre.real, falloff.centre.imag] for falloff in falloffs],
        "offset": law.offset,
        "toe": law.toe,
        "corner_stops": _corner_stops(falloffs, size),
    }


def _corner_stops(falloffs: list[Falloff], size: Size) -> float:
    return round(max(falloff.corner_stops(size.width, size.height) for falloff in falloffs), 3)


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


def drawn_fringe(settings: FringeSettings | None, frames: Frames) -> dict[str, Any] | None:
    """What a viewer samples red and blue of `frames` by, for each of the frames `nodes`, between which it changes
    evenly: how much further out than green, as a share of the way from the centre, in the middle and a half-diagonal
    out, between which it goes as the squared radius.
    """
    if settings is None:
        return None
    nodes = nodes_of(settings, frames)
    fringes = [fringe_of(fringe_at(settings, node)) for node in nodes]
    if not any(fringe.any for fringe in fringes):
        return None
    return {
        "nodes": nodes,
        "red": [[fringe.red[0], sum(fringe.red)] for fringe in fringes],
        "blue": [[fringe.blue[0], sum(fringe.blue)] for fringe in fringes],
        "centres": [[fringe.centre.real, fringe.centre.imag] for fringe in fringes],
    }


def undone_glass(optics: Optics, size: Size, frames: Frames) -> dict[str, float]:
    """How much of the glass is undone in `frames`, at most: `corner_stops` that the corner lifted most is lifted, its
    noise along with it, and `red_px`, `blue_px` that colours are moved inwards at a corner.
    """
    figures: dict[str, float] = {}
    if optics.falloff is not None:
        falloffs = [falloff_of(falloff_at(optics.falloff, node)) for node in nodes_of(optics.falloff, frames)]
        if any(falloff.amount for falloff in falloffs):
            figures["corner_stops"] = _corner_stops(falloffs, size)
    if optics.fringe is not None:
        fringes = [fringe_of(fringe_at(optics.fringe, node)) for node in nodes_of(optics.fringe, frames)]
        if any(fringe.any for fringe in fringes):
            shifts = [fringe.at_corner(size.half_diagonal) for fringe in fringes]
            red, blue = (max((shift[colour] for shift in shifts), key=abs) for colour in range(2))
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
