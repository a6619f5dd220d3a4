"""Static light levels (SMPTE ST 2086, CTA-861.3) as encoders take them."""

from __future__ import annotations

from keen_horizon.core.media.carried import Light

_XY, _LUMINANCE = 50_000, 10_000  # units of x265's integers: 0.00002, and 0.0001 cd/m2


def light_options(codec: str, light: Light | None) -> dict[str, str]:
    """Options of an encoder that write `light` into its stream; none where it cannot."""
    if light is None:
        return {}
    if codec == "h265":
        return {"x265-params": _joined(_x265(light))}
    if codec == "av1":
        return {"svtav1-params": _joined(_svtav1(light))}
    return {}


def _joined(settings: dict[str, str]) -> str:
    return ":".join(f"{name}={value}" for name, value in settings.items())


def _x265(light: Light) -> dict[str, str]:
    settings = {}
    if light.primaries and light.luminance:
        red, green, blue, white = (f"({round(x * _XY)},{round(y * _XY)})" for x, y in light.primaries)
        least, most = (round(value * _LUMINANCE) for value in light.luminance)
        settings["master-display"] = f"G{green}B{blue}R{red}WP{white}L({most},{least})"
    if light.content:
        settings["max-cll"] = f"{light.content[0]},{light.content[1]}"
    return settings


def _svtav1(light: Light) -> dict[str, str]:
    settings = {}
    if light.primaries and light.luminance:
        red, green, blue, white = (f"({x:.5f},{y:.5f})" for x, y in light.primaries)
        least, most = light.luminance
        settings["mastering-display"] = f"G{green}B{blue}R{red}WP{white}L({most:.4f},{least:.4f})"
    if light.content:
        settings["content-light"] = f"{light.content[0]},{light.content[1]}"
    return settings
