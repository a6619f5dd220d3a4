"""A sphere's measuring run as bytes, so that it can go on in another process: an .npz, without pickling."""

from __future__ import annotations

import io
from dataclasses import astuple
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.motion.sphere.tracker import Found, SphereKey, SphereTracker, TurnQuality


def stored_sphere(tracker: SphereTracker) -> bytes:
    """The whole state of a tracker between two frames."""
    data: dict[str, Any] = {
        "size": [tracker.size.width, tracker.size.height],
        "times": tracker.times,
        "quality": np.array([astuple(row) for row in tracker.quality], np.float64).reshape(-1, 6),
        "links": np.array(tracker.links, np.int64).reshape(-1, 2),
        "sights": [at for at, _ in tracker.edges],
        "fresh": tracker.fresh,
        **_parts("pairs", [np.hstack([pair.source, pair.target]) for pair in tracker.pairs], 6),
        **_parts("matched", [np.hstack([match.source, match.target]) for match in tracker.matched], 6),
        **_parts("believed", [flags[:, None].astype(np.float32) for flags in tracker.believed], 1),
        **_parts("edges", [edges for _, edges in tracker.edges], 6),
        **_parts("followed", tracker.followed, 2),
    }
    if tracker.previous is not None and tracker.small_before is not None:
        data |= {"previous": tracker.previous, "small_before": tracker.small_before}
    for name, key in (("key", tracker.key), ("anchor", tracker.anchor)):
        if key is not None:
            data |= {name: [key.number, key.misses, key.last], f"{name}_faces": key.faces, f"{name}_turn": key.turn}
            data |= _parts(f"{name}_points", key.points, 2)
    buffer = io.BytesIO()
    np.savez(buffer, **data)
    return buffer.getvalue()


def restored_sphere(stored: bytes) -> SphereTracker:
    """The reverse of `stored_sphere`. Raises ValueError, KeyError or EOFError on foreign bytes."""
    with np.load(io.BytesIO(stored), allow_pickle=False) as data:
        width, height = (int(side) for side in data["size"])
        tracker = SphereTracker.start(Size(width, height))
        tracker.times = data["times"].tolist()
        tracker.quality = [
            TurnQuality(int(a), int(b), float(c), bool(d), bool(e), bool(f))
            for a, b, c, d, e, f in data["quality"].tolist()
        ]
        tracker.links = [(int(one), int(other)) for one, other in data["links"]]
        tracker.pairs, tracker.matched = (
            [Found(part[:, :3], part[:, 3:]) for part in _split(data, name)] for name in ("pairs", "matched")
        )
        tracker.believed = [part[:, 0] > 0 for part in _split(data, "believed")]
        tracker.edges = list(zip(data["sights"].astype(int).tolist(), _split(data, "edges"), strict=True))
        tracker.followed, tracker.fresh = _split(data, "followed"), int(data["fresh"])
        if "previous" in data:
            tracker.previous, tracker.small_before = data["previous"], data["small_before"]
        tracker.key, tracker.anchor = _key(data, "key"), _key(data, "anchor")
        return tracker


def _key(data: Any, name: str) -> SphereKey | None:
    if name not in data:
        return None
    number, misses, last = (int(figure) for figure in data[name])
    return SphereKey(number, data[f"{name}_faces"], _split(data, f"{name}_points"), data[f"{name}_turn"], misses, last)


def _parts(name: str, tables: list[NDArray[np.float32]], width: int) -> dict[str, Any]:
    """Tables of one width as one, with their lengths."""
    return {
        name: np.concatenate([*tables, np.zeros((0, width), np.float32)]),
        f"{name}_lengths": np.array([len(table) for table in tables], np.int64),
    }


def _split(data: Any, name: str) -> list[NDArray[np.float32]]:
    lengths = data[f"{name}_lengths"]
    return [np.ascontiguousarray(part) for part in np.split(data[name], np.cumsum(lengths)[:-1])][: len(lengths)]
