"""Starting points: named sets of settings to begin a treatment with, in an open JSON form.

A set holds figures that mean something for any clip; what belongs to one clip (range, keys, eased stretches,
pinned points, drawn lines, the window's nudge) is never part of it and stays as it is when a set is applied.
"""

from __future__ import annotations

from typing import Any

from keen_horizon.core.treatment.believing import MOST_AREAS
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.edges import Edges
from keen_horizon.core.treatment.former import with_present_names
from keen_horizon.core.treatment.motion import Motion

MOTION = ("intent", "level_glide", "response_s", "strength", "freedom")
EDGES = ("way", "borrow", "zoom", "zoom_rate", "zoom_limit", "gap_colour", "gap_clear", "sharpen", "size")
OUTPUT = ("container", "codec", "quality", "sound")

SHIPPED: dict[str, dict[str, dict[str, Any]]] = {
    "Barely there": {
        "motion": {"intent": "glide", "response_s": 0.5, "strength": 0.7, "freedom": ["shift", "turn"]},
        "edges": {"way": "fill", "zoom": "one", "zoom_limit": 1.04},
    },
    "Walking shot": {
        "motion": {"intent": "glide", "response_s": 1.2, "strength": 1.0, "freedom": ["shift", "turn", "size"]},
        "edges": {"way": "fill", "zoom": "breathing", "zoom_rate": 0.08, "zoom_limit": 1.12},
    },
    "Tripod": {
        "motion": {"intent": "hold", "strength": 1.0, "freedom": ["shift", "turn", "size"]},
        "edges": {"way": "fill", "zoom": "one", "zoom_limit": 1.15},
    },
    "Slow flight": {
        "motion": {"intent": "glide", "response_s": 2.5, "freedom": ["shift", "turn", "size", "tilt"]},
        "edges": {"way": "borrow", "borrow": {"reach_s": 0.5}, "zoom_limit": 1.08},
    },
    "Level horizon": {
        "motion": {"intent": "level", "strength": 1.0, "freedom": ["turn"]},
        "edges": {"way": "fill", "zoom": "breathing", "zoom_rate": 0.05, "zoom_limit": 1.15},
    },
    "Level flight": {
        "motion": {
            "intent": "level", "level_glide": True, "response_s": 2.0, "strength": 1.0,
            "freedom": ["shift", "turn", "size"],
        },
        "edges": {"way": "fill", "zoom": "breathing", "zoom_rate": 0.05, "zoom_limit": 1.12},
    },
}  # fmt: skip


def settings_of(treatment: Treatment) -> dict[str, Any]:
    """The set that a treatment's settings make."""
    whole = treatment.to_json()
    return {
        part: {name: whole[part][name] for name in names}
        for part, names in (("motion", MOTION), ("edges", EDGES), ("output", OUTPUT))
    }


def started(treatment: Treatment, settings: dict[str, Any]) -> Treatment:
    """A treatment with a set applied: figures the set does not name go back to their defaults. Raises TreatmentError.

    Delivery settings change only where the set has some.
    """
    plain = {"motion": Motion().model_dump(mode="json"), "edges": Edges().model_dump(mode="json")}
    settings = with_present_names(settings)
    whole = treatment.to_json()
    for part, names in (("motion", MOTION), ("edges", EDGES)):
        for name in names:
            whole[part][name] = settings.get(part, {}).get(name, plain[part][name])
    whole["output"] |= settings.get("output", {})
    if whole["motion"]["response_s"] != treatment.motion.response_s:
        whole["motion"]["keys"] = [track for track in whole["motion"]["keys"] if track["figure"] != "response_s"]
    return Treatment.from_json(whole)


def for_another_clip(treatment: Treatment, theirs: Treatment, *, alike: bool = True) -> Treatment:
    """A treatment carried to another clip, which keeps what belongs to it alone.

    Ignored areas that stand in one place all along, a bonnet or a watermark, go along where both pictures are `alike`.
    """
    whole, other = treatment.to_json(), theirs.to_json()
    whole["range"] = other["range"]
    whole["source"] = other["source"]
    if whole["view"] is not None:
        whole["view"]["keys"] = (other["view"] or {"keys": []})["keys"]
    for name in ("straightedges", "world_lines", "keys", "flat"):
        whole["optics"][name] = other["optics"][name]
    for part in ("falloff", "fringe"):
        if whole["optics"][part] is not None:
            whole["optics"][part]["keys"] = (other["optics"][part] or {"keys": []})["keys"]
    for name in ("ease", "pin", "level", "layer"):
        whole["motion"][name] = other["motion"][name]
    fixed = [area.model_dump(mode="json") for area in treatment.motion.ignore if area.stands_fixed and alike]
    known = {area["name"] for area in fixed}
    whole["motion"]["ignore"] = [*fixed, *(a for a in other["motion"]["ignore"] if a["name"] not in known)][:MOST_AREAS]
    keyed = {track.figure for track in treatment.motion.keys}
    whole["motion"]["keys"] = [track for track in other["motion"]["keys"] if track["figure"] in keyed]
    return Treatment.from_json(whole)
