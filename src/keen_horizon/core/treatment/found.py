"""Settings of the glass with what a clip told of it, as findings keep it: what was set by hand beside that stays."""

from __future__ import annotations

from typing import Any

from keen_horizon.core.treatment.optics import FalloffSettings, FringeSettings

LIGHT = ("coefficients", "centre_x", "centre_y")
EDGE = ("radius", "centre_x", "centre_y", "sides", "softness")
COLOURS = ("red", "blue", "centre_x", "centre_y")


def with_light(known: FalloffSettings | None, found: dict[str, Any]) -> FalloffSettings:
    """The fall-off that was found, the same all over the clip."""
    return FalloffSettings.model_validate(_figures(known) | _chosen(found, LIGHT) | {"keys": ()})


def with_dead_edge(known: FalloffSettings | None, found: dict[str, Any]) -> FalloffSettings:
    """The dead edge that was found, of which as much counts as picture as before; no fall-off where none is known."""
    before = {} if known is None or known.dead_edge is None else known.dead_edge.model_dump()
    light = _figures(known) or {"coefficients": [0.0]}
    return FalloffSettings.model_validate(light | {"dead_edge": before | _chosen(found, EDGE)})


def with_colours(known: FringeSettings | None, found: dict[str, Any]) -> FringeSettings:
    """The fringes that were found, the same all over the clip."""
    return FringeSettings.model_validate(_figures(known) | _chosen(found, COLOURS) | {"keys": ()})


def _figures(known: FalloffSettings | FringeSettings | None) -> dict[str, Any]:
    return {} if known is None else known.model_dump()


def _chosen(found: dict[str, Any], names: tuple[str, ...]) -> dict[str, Any]:
    return {name: found[name] for name in names}
