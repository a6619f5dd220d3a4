"""The page about a clip that is printed: its figures in words, and its charts as SVG outlines."""

from __future__ import annotations

from typing import Any

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.mapping.light import undone_glass
from keen_horizon.core.media.along import summary
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.material import clip_info
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.like_source import like_source
from keen_horizon.store.models import Clip
from keen_horizon.web.present import FORMAT_NAMES, timecode

CHART = (640, 90)
INTENTS = {"glide": "Glide", "hold": "Hold", "pin": "Pin", "level": "Level", None: "as shot"}


def clip_report(clip: Clip, treatment: Treatment, which: str, solution: dict[str, Any], frame: int) -> dict[str, Any]:
    """What the report's template shows; `solution` is the solved treatment, "draft" or a letter, as pages get it."""
    info = clip_info(clip)
    still = f"/media/clips/{clip.id}/still.jpg?frame={frame}"
    of_clip = _of_sphere(treatment, solution) if info.camera == "sphere" else _of_frames(treatment, info, solution)
    return {
        "source": f"{timecode(info.duration)} · {info.coded.width}×{info.coded.height} · {info.usual_rate:.2f} fps",
        "range": f"frames {solution['first']}-{solution['first'] + solution['frames'] - 1}",
        "frame": frame,
        "before": still,
        "after": f"{still}&of={which}",
        "notes": [*info.notes, *solution["notes"], summary(clip_fates(info, like_source(treatment, info)))],
        **of_clip,
    }


def _of_frames(treatment: Treatment, info: ClipInfo, solution: dict[str, Any]) -> dict[str, Any]:
    """What is said of a clip that shows a frame."""
    figures = solution["ledger"]
    shake_top = max(0.05, *solution["shake_before"])
    zoom_top = max(1.02, *(min(zoom, 2.0) for zoom in solution["wanted_zoom"]), *solution["zoom"])
    return {
        "settings": [
            *_moved(treatment), ("edges", treatment.edges.way), ("zoom limit", f"{treatment.edges.zoom_limit:.3f}×"),
            _delivered(treatment),
        ],
        "figures": [
            ("zoom, largest", f"{figures['zoom']:.3f}×"), ("zoom, mean", f"{figures['mean_zoom']:.3f}×"),
            ("picture kept", f"{100 * figures['kept_area']:.1f} %"),
            ("sharpness left", f"{100 * figures['sharpness']:.1f} %"),
            ("equals", f"{figures['equals_width']}×{figures['equals_height']}"),
            ("output", "×".join(str(side) for side in solution["output"])),
            ("shake before", f"{figures['shake_before_percent']:.3f} % of the width"),
            ("shake after", f"{figures['shake_after_percent']:.3f} % of the width"),
            ("largest gap", f"{100 * figures['gap_area']:.2f} %"),
            ("borrowed", f"{100 * figures['borrowed_area']:.2f} %"),
            *_glass(treatment, info.display, solution),
        ],
        "pinches": [
            f"frame {p['frame']} asks for {p['wanted']:.3f}×; "
            f"without {p['first']}-{p['last']} {p['without']:.3f}× would do"
            for p in solution["pinches"]
        ],
        "charts": [
            _chart("Shake, % of the width", solution, "shake_before", "shake_after", 0, shake_top),
            _chart("Zoom asked for and given", solution, "wanted_zoom", "zoom", 1, zoom_top),
        ],
    }  # fmt: skip


def _of_sphere(treatment: Treatment, solution: dict[str, Any]) -> dict[str, Any]:
    """What is said of a clip that shows all around."""
    figures, view = solution["ledger"], treatment.view
    top = max(0.05, *solution["shake_before"])
    settings = [row for row in _moved(treatment) if row[0] != "corrects"]
    if treatment.motion.intent == "pin" and treatment.motion.pin.lag_s:
        settings.append(("follows late by", f"{treatment.motion.pin.lag_s} s"))
    if view is None or view.output == "sphere":
        settings.append(("delivers", "all around"))
    else:
        keys = f", {len(view.keys)} keys" if len(view.keys) > 1 else ""
        settings.append(("delivers", f"a {view.output} view{keys}"))
    return {
        "settings": [*settings, _delivered(treatment)],
        "figures": [
            ("output", "×".join(str(side) for side in solution["output"])),
            ("source px a pixel, fewest", f"{figures['source_px']:.2f}"),
            ("turned by at most", f"{figures['largest_turn_deg']:.1f}°"),
            ("shake before", f"{figures['shake_before_deg']:.3f} °/frame²"),
            ("shake after", f"{figures['shake_after_deg']:.3f} °/frame²"),
        ],
        "pinches": [],
        "charts": [_chart("Shake, °/frame²", solution, "shake_before", "shake_after", 0, top)],
    }


def _glass(treatment: Treatment, size: Size, solution: dict[str, Any]) -> list[tuple[str, str]]:
    """What of the glass is undone, and what it costs."""
    undone = undone_glass(treatment.optics, size, solution["first"] + np.arange(solution["frames"]))
    rows = []
    if "corner_stops" in undone:
        rows.append(("corners lifted", f"{undone['corner_stops']:.2f} stops, their noise too"))
    if solution["dead"]:
        rows.append(("dead corners hidden at", f"{solution['dead']['zoom']:.3f}×"))
    if "red_px" in undone:
        rows.append(("red, blue moved inwards", f"{undone['red_px']:+.2f}, {undone['blue_px']:+.2f} px at a corner"))
    return rows


def _moved(treatment: Treatment) -> list[tuple[str, str]]:
    motion = treatment.motion
    rows = [("camera", "Level, gliding" if motion.glides_level else INTENTS[motion.intent])]
    if motion.intent == "glide" or motion.glides_level:
        rows.append(("response time", "keyed" if motion.keyed("response_s") else f"{motion.response_s} s"))
    if motion.intent:
        rows += [
            ("corrects", ", ".join(motion.freedom)),
            ("strength", "keyed" if motion.keyed("strength") else f"{motion.strength}"),
        ]
    return rows


def _delivered(treatment: Treatment) -> tuple[str, str]:
    output = treatment.output
    return ("delivered as", f"{FORMAT_NAMES[output.codec]} in {output.container.upper()}")


def _chart(what: str, solution: dict[str, Any], before: str, after: str, low: float, high: float) -> dict[str, str]:
    return {
        "title": f"{what}, up to {high:.3f}",
        "before": _outline(solution[before], low, high),
        "after": _outline(solution[after], low, high),
    }


def _outline(values: list[float], low: float, high: float) -> str:
    """Values as an SVG path over the chart; long clips by the largest of each step."""
    width, height = CHART
    parts = np.array_split(np.asarray(values), min(len(values), width))
    peaks = np.array([part.max() for part in parts])
    x = np.linspace(0, width, len(peaks))
    y = height - height * np.clip((peaks - low) / (high - low), 0, 1)
    return "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y, strict=True))
