"""Documents of version 1, whose keys had other names in places: read for ever, never written.

They knew of no rolling shutter: where they do not say, it stays as shot, whatever new documents begin with.
"""

from __future__ import annotations

from typing import Any

_PARTS = {"framing": "edges", "deliver": "output"}
_KEYS = {"framing": {"edges": "way"}, "optics": {"upright_lines": "world_lines"}}
_MOTION_KEYS = {"response_keys": "response_s", "strength_keys": "strength"}
SCHEMA_1 = "keen-horizon/treatment/1"


def with_present_names(document: Any, schema: str | None = None) -> Any:
    """A document, or a set of settings, under the names that keys have now; `schema` is what it is called then.

    What is no document, or has a key under both names, is left as it is: checking it says what is wrong.
    """
    if not isinstance(document, dict):
        return document
    renamed: dict[str, Any] = {}
    for name, part in document.items():
        present = _PARTS.get(str(name), str(name))
        if present != name and present in document:
            return document
        renamed[present] = _renamed(part, _KEYS.get(str(name), {}))
    renamed |= {"motion": _keyed_alike(renamed["motion"])} if "motion" in renamed else {}
    if schema and renamed.get("schema") == SCHEMA_1:
        renamed["schema"] = schema
        motion = renamed.setdefault("motion", {})
        if isinstance(motion, dict):
            motion.setdefault("rolling_shutter", "off")
    return renamed


def _keyed_alike(motion: Any) -> Any:
    """A motion whose keys stood apart, under a name for each figure, with all of them in `keys`."""
    if not isinstance(motion, dict) or "keys" in motion or not any(name in motion for name in _MOTION_KEYS):
        return motion
    tracks = [{"figure": figure, "keys": motion[name]} for name, figure in _MOTION_KEYS.items() if motion.get(name)]
    return {name: value for name, value in motion.items() if name not in _MOTION_KEYS} | {"keys": tracks}


def _renamed(part: Any, names: dict[str, str]) -> Any:
    if not isinstance(part, dict):
        return part
    free: dict[str, str] = {old: present for old, present in names.items() if present not in part}
    return {free.get(name, name): value for name, value in part.items()}
