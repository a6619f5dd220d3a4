"""One vote a track, for its life: background, another layer, or nothing known."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.motion.belief.layers import Layers
from keen_horizon.core.motion.belief.windows import Window

ALONE = 0.25  # what a window with a single layer weighs: it tells little apart
LINKED = 0.3  # shared tracks by which layers of windows that follow each other are one
BACKGROUND, UNKNOWN = 0, -1
IGNORED = 1_000_000  # an editor does not want it believed: like a layer that is not the background


@dataclass(frozen=True)
class Labelled:
    """The label (I,) of every identity up to the largest: 0 what is believed, 1 ... other layers, -1 unknown."""

    label: NDArray[np.int32]

    def of(self, identity: NDArray[np.int32]) -> NDArray[np.int32]:
        """The labels of some tracks."""
        return self.label[identity]


def named_layers(
    windows: Sequence[Window], layers: Sequence[Layers], first_name: int
) -> tuple[list[NDArray[np.intp]], int]:
    """For every window the name (K,) of each of its layers, from `first_name` on: layers go on through windows by their
    tracks. Also the next free name.
    """
    names: list[NDArray[np.intp]] = []
    free = first_name
    for place, (window, found) in enumerate(zip(windows, layers, strict=True)):
        name = np.full(len(found.moves), UNKNOWN)
        if place:
            _carried(window, found, windows[place - 1], layers[place - 1], names[-1], name)
        for layer in np.flatnonzero(name == UNKNOWN):
            name[layer], free = free, free + 1
        names.append(name)
    return names, free


def _carried(
    window: Window,
    found: Layers,
    before: Window,
    earlier: Layers,
    earlier_names: NDArray[np.intp],
    name: NDArray[np.intp],
) -> None:
    """Names of the last window's layers go on in those that share most of their tracks."""
    _, a, b = np.intersect1d(before.identity, window.identity, assume_unique=True, return_indices=True)
    table = np.zeros((len(earlier.moves), len(found.moves)))
    both = (earlier.label[a] >= 0) & (found.label[b] >= 0)
    np.add.at(table, (earlier.label[a][both], found.label[b][both]), 1.0)
    share = table / np.maximum(1.0, np.minimum(table.sum(1)[:, None], table.sum(0)[None]))
    for one, other in zip(*np.unravel_index(np.argsort(-share, axis=None), share.shape), strict=True):
        if share[one, other] > LINKED and name[other] == UNKNOWN and earlier_names[one] not in name:
            name[other] = earlier_names[one]


def vote(
    shots: Sequence[tuple[Sequence[Window], Sequence[Layers], Sequence[NDArray[np.intp]]]], count: int
) -> Labelled:
    """The label of `count` tracks: what they were in most windows."""
    identity, name, weight = [], [], []
    for windows, layers, names in shots:
        for window, found, named in zip(windows, layers, names, strict=True):
            known = np.flatnonzero(found.label >= 0)
            identity.append(window.identity[known])
            name.append(named[found.label[known]])
            weight.append(np.full(len(known), ALONE if len(found.moves) == 1 else 1.0))
    label = np.full(count, UNKNOWN, np.int32)
    if not identity:
        return Labelled(label)
    who, what, how = np.concatenate(identity), np.concatenate(name), np.concatenate(weight)
    pair, inverse = np.unique(np.stack([who, what], -1), axis=0, return_inverse=True)
    if not len(pair):
        return Labelled(label)
    votes = np.bincount(inverse.ravel(), weights=how)
    order = np.lexsort((votes, pair[:, 0]))
    last = np.r_[np.diff(pair[order, 0]) != 0, True]
    label[pair[order[last], 0]] = pair[order[last], 1]
    return Labelled(label)
