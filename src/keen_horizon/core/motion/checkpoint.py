"""A measuring run as bytes, so that it can go on in another process: an .npz, without pickling."""

from __future__ import annotations

import io
from dataclasses import astuple
from typing import Any

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.motion.levels import LevelSight
from keen_horizon.core.motion.links import Key, Link, PairQuality
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import joined
from keen_horizon.core.motion.tracking import Tracks


def stored_tracker(tracker: MotionTracker) -> bytes:
    """The whole state of a tracker between two frames."""
    t = tracker
    data: dict[str, Any] = {
        "sizes": [t.size.width, t.size.height, t.analysis.width, t.analysis.height],
        "times": t.times,
        "pairs": _table(t.pairs, 8), "links": _table(t.links, 8), "quality": _table(t.quality, 6).real,
        "lengths": [len(p) for p in t.points],
        "points": np.concatenate([*t.points, np.zeros((0, 2), np.float32)]),
        "moved": np.concatenate([*t.moved, np.zeros((0, 2), np.float32)]),
        "matched": [len(m) for m in t.matched],
        "match_points": np.concatenate([*(m.source for m in t.matched), np.zeros((0, 2), np.float32)]),
        "match_moved": np.concatenate([*(m.target for m in t.matched), np.zeros((0, 2), np.float32)]),
        "believed": np.concatenate([*t.believed, np.zeros(0, np.bool_)]),
        "sights": np.array([(n, s.angle, s.sigma, s.kind) for n, s in t.sights], np.float64).reshape(-1, 4),
        "followed": t.followed, "fresh": t.fresh,
        "to_key": joined([t.key_z, t.key_t, t.key_tilt, t.key_misses]),
    }  # fmt: skip
    if t.previous is not None:
        data["previous"] = t.previous
    for name, key in (("key", t.key), ("anchor", t.anchor)):
        if key is not None:
            data |= {f"{name}_number": key.number, f"{name}_gray": key.gray, f"{name}_corners": key.corners}
    buffer = io.BytesIO()
    np.savez(buffer, **data)
    return buffer.getvalue()


def restored_tracker(stored: bytes) -> MotionTracker:
    """The reverse of `stored_tracker`. Raises ValueError, KeyError or EOFError on foreign bytes."""
    with np.load(io.BytesIO(stored), allow_pickle=False) as data:
        width, height, across, down = (int(side) for side in data["sizes"])
        ends = np.cumsum(data["lengths"])[:-1]
        count = len(data["lengths"])
        key_z, key_t, key_tilt, misses = data["to_key"].tolist()
        return MotionTracker(
            Size(width, height), Size(across, down),
            previous=data.get("previous", None), times=data["times"].tolist(),
            pairs=_links(data["pairs"]), links=_links(data["links"]),
            quality=[
                PairQuality(int(a), int(b), float(c), bool(d), bool(e), bool(f))
                for a, b, c, d, e, f in data["quality"].tolist()
            ],
            points=np.split(data["points"], ends)[:count], moved=np.split(data["moved"], ends)[:count],
            matched=[Tracks(a, b) for a, b in zip(*_split_matches(data), strict=True)],
            believed=np.split(data["believed"], ends)[:count],
            sights=[(int(n), LevelSight(a, s, int(k))) for n, a, s, k in data["sights"].tolist()],
            anchor=_key(data, "anchor"), key=_key(data, "key"),
            key_z=key_z, key_t=key_t, key_tilt=key_tilt, key_misses=int(misses.real),
            followed=data["followed"], fresh=int(data["fresh"]),
        )  # fmt: skip


def _split_matches(data: Any) -> tuple[list[Any], list[Any]]:
    counts = data["matched"]
    ends = np.cumsum(counts)[:-1].astype(np.intp)
    first, later = (np.split(data[name], ends)[: len(counts)] for name in ("match_points", "match_moved"))
    return first, later


def _table(rows: list[Any], width: int) -> Any:
    return np.array([astuple(row) for row in rows], np.complex128).reshape(-1, width)


def _links(table: Any) -> list[Link]:
    return [Link(int(row[0].real), int(row[1].real), *row[2:]) for row in table.tolist()]


def _key(data: Any, name: str) -> Key | None:
    if f"{name}_number" not in data:
        return None
    return Key(int(data[f"{name}_number"]), data[f"{name}_gray"], data[f"{name}_corners"])
