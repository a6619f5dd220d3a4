"""A measuring run as bytes, so that it can go on in another process: an .npz, without pickling."""

from __future__ import annotations

import io
from dataclasses import astuple
from itertools import pairwise
from typing import Any

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.motion.levels import LevelSight
from keen_horizon.core.motion.links import Key, PairQuality
from keen_horizon.core.motion.living import Lived, LivingPoints, Lookout, together
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.tracking import Detail


def stored_tracker(tracker: MotionTracker) -> bytes:
    """The whole state of a tracker between two frames."""
    t = tracker
    living = t.living
    data: dict[str, Any] = {
        "sizes": [t.size.width, t.size.height, t.analysis.width, t.analysis.height],
        "times": t.times,
        "quality": np.array([astuple(q) for q in t.quality], np.int64).reshape(-1, 4),
        "lived_counts": [len(lived) for lived in t.lived],
        "links": np.array(t.links, np.int64).reshape(-1, 2),
        "matched_counts": [len(matched) for matched in t.matched],
        "sights": np.array([(n, s.angle, s.sigma, s.kind) for n, s in t.sights], np.float64).reshape(-1, 4),
        "living": [living.born, living.filled, living.age],
        "detail": [living.detail.side, *living.detail.grid, living.detail.per_cell],
        "motion": [] if t.motion is None else list(t.motion),
        "to_key": [t.key_z, t.key_t, t.key_misses],
        **_points("lived", together(t.lived)), **_points("matched", together(t.matched)),
        **_points("alive", Lived(living.places, living.places, living.identity, living.weak)),
    }  # fmt: skip
    if t.previous is not None:
        data["previous"] = t.previous.gray
    for name, key in (("key", t.key), ("anchor", t.anchor)):
        if key is not None:
            data |= {f"{name}_number": key.number, f"{name}_gray": key.picture.gray, **_points(name, key.points)}
    buffer = io.BytesIO()
    np.savez(buffer, **data)
    return buffer.getvalue()


def restored_tracker(stored: bytes) -> MotionTracker:
    """The reverse of `stored_tracker`. Raises ValueError, KeyError or EOFError on foreign bytes."""
    with np.load(io.BytesIO(stored), allow_pickle=False) as data:
        width, height, across, down = (int(side) for side in data["sizes"])
        key_z, key_t, misses = data["to_key"].tolist()
        born, filled, age = (int(figure) for figure in data["living"])
        side, columns, rows, per_cell = (int(figure) for figure in data["detail"])
        alive = _lived(data, "alive")
        motion = data["motion"].tolist()
        return MotionTracker(
            Size(width, height), Size(across, down),
            previous=Lookout.of(data["previous"]) if "previous" in data else None,
            times=data["times"].tolist(),
            quality=[PairQuality(int(a), bool(b), bool(c), bool(d)) for a, b, c, d in data["quality"].tolist()],
            lived=_split(data, "lived"), links=[(int(a), int(b)) for a, b in data["links"].tolist()],
            matched=_split(data, "matched"),
            sights=[(int(n), LevelSight(a, s, int(k))) for n, a, s, k in data["sights"].tolist()],
            living=LivingPoints(
                alive.target, alive.identity, alive.weak, born, filled, age, Detail(side, (columns, rows), per_cell)
            ),
            motion=(motion[0], motion[1]) if motion else None,
            anchor=_key(data, "anchor"), key=_key(data, "key"), key_z=key_z, key_t=key_t, key_misses=int(misses.real),
        )  # fmt: skip


def _points(name: str, points: Lived) -> dict[str, Any]:
    return {f"{name}_{part}": getattr(points, part) for part in ("source", "target", "identity", "weak")}


def _lived(data: Any, name: str) -> Lived:
    return Lived(*(data[f"{name}_{part}"] for part in ("source", "target", "identity", "weak")))


def _split(data: Any, name: str) -> list[Lived]:
    ends = np.r_[0, np.cumsum(data[f"{name}_counts"])].astype(np.intp)
    whole = _lived(data, name)
    return [whole.only(np.arange(a, b)) for a, b in pairwise(ends)]


def _key(data: Any, name: str) -> Key | None:
    if f"{name}_number" not in data:
        return None
    return Key(int(data[f"{name}_number"]), Lookout.of(data[f"{name}_gray"]), _lived(data, name))
