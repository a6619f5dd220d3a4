"""A measurement believed as an editor says: areas ignored, another layer standing still. Nothing is tracked again.

The layers that were found stay; only windows that they explain less than half of are looked through again.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.belief.areas import ignored_rows
from keen_horizon.core.motion.belief.around import believed_around
from keen_horizon.core.motion.belief.chain import best_chain
from keen_horizon.core.motion.belief.labels import BACKGROUND, UNKNOWN, named_layers
from keen_horizon.core.motion.belief.layers import Layers, Moves, find_layers
from keen_horizon.core.motion.belief.solving import Parted, margins, solved, voted
from keen_horizon.core.motion.belief.windows import Window, shots, windows
from keen_horizon.core.motion.matched import analysed_size, analysed_unit
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.believing import Belief, StandsStill

EXPLAINED = 0.5  # of a window's tracks that are left: less, and it is looked through again
LEAST_MEMBERS = 4
_UNKNOWN_MOVES = Moves(*(np.zeros(0, np.complex128) for _ in range(3)))


@kept_lately
def believed_as(measurement: Measurement, belief: Belief) -> Measurement:
    """The measurement as an editor wants it believed; as it is where nothing is said, or it kept no tracks."""
    evidence = measurement.evidence
    if measurement.sphere:
        return believed_around(measurement, belief.ignore)
    if belief.says_nothing or not len(evidence.identity) or len(measurement) < 2:
        return measurement
    unit, size = analysed_unit(measurement.size), analysed_size(measurement.size)
    ignored = ignored_rows(measurement, belief.ignore) if belief.ignore else None
    names = _names(measurement)
    free = int(names.max(initial=0)) + 1
    gone = _gone(measurement, ignored, len(names))
    parted: list[Parted] = []
    for shot in shots(measurement):
        seen = [_left(window, gone) for window in windows(measurement, shot, unit)]
        layers, named, free = _known_layers(seen, names, free, size)
        chosen = _chosen(seen, layers, named, measurement.first, belief.layer, unit)
        chain = best_chain(seen, layers, named, size, chosen)
        for name, layer in zip(named, chain.layer, strict=True):
            name[name == BACKGROUND] = free
            if layer >= 0:
                name[layer] = BACKGROUND
        free += 1
        parted.append(Parted(seen, layers, chain, named))
    labels = voted(measurement, parted)
    return solved(measurement, labels, margins(parted, len(measurement)), ignored)


def _names(measurement: Measurement) -> NDArray[np.int32]:
    """The layer of every identity as it was found, -1 unknown."""
    evidence = measurement.evidence
    count = int(max(evidence.identity.max(initial=-1), evidence.matches.identity.max(initial=-1))) + 1
    names = np.full(count, UNKNOWN, np.int32)
    names[evidence.identity] = evidence.layer
    return names


def _gone(measurement: Measurement, ignored: NDArray[np.bool_] | None, count: int) -> NDArray[np.bool_]:
    """The identities (I,) that are ignored all along."""
    gone = np.zeros(count, np.bool_)
    if ignored is None:
        return gone
    identity = measurement.evidence.identity
    life = np.bincount(identity, minlength=count)
    lost = np.bincount(identity[ignored[: len(identity)]], minlength=count)
    return np.asarray((lost >= life) & (life > 0))


def _left(window: Window, gone: NDArray[np.bool_]) -> Window:
    kept = ~gone[window.identity]
    return replace(window, identity=window.identity[kept], places=window.places[kept], weak=window.weak[kept])


def _known_layers(
    seen: list[Window], names: NDArray[np.int32], free: int, size: Size
) -> tuple[list[Layers], list[NDArray[np.intp]], int]:
    """The layers of windows by what their tracks are known to be, or sought anew where that tells too little."""
    layers: list[Layers] = []
    named: list[NDArray[np.intp]] = []
    for window in seen:
        name = names[window.identity]
        who, count = np.unique(name[name != UNKNOWN], return_counts=True)
        who = who[count >= LEAST_MEMBERS]
        known = np.isin(name, who)
        if known.mean() >= EXPLAINED if len(name) else True:
            label = np.where(known, np.searchsorted(who, name), UNKNOWN)
            layers.append(Layers(label, (_UNKNOWN_MOVES,) * len(who)))
            named.append(who.astype(np.intp))
            continue
        found = find_layers(window, size, [], seed=int(window.frames[0]))
        fresh, free = named_layers([window], [found], free)
        layers.append(found)
        named.append(fresh[0])
    return layers, named, free


def _chosen(
    seen: list[Window],
    layers: list[Layers],
    named: list[NDArray[np.intp]],
    first: int,
    still: StandsStill | None,
    unit: float,
) -> list[NDArray[np.bool_]] | None:
    """For every window the tracks of the layer that an editor says stands still; None where nothing is said of it."""
    if still is None or not seen:
        return None
    frame = still.frame - first
    if not seen[0].frames[0] <= frame <= seen[-1].frames[-1]:
        return None
    nearest = int(np.argmin([abs(int(window.frames[window.middle]) - frame) for window in seen]))
    window, found = seen[nearest], layers[nearest]
    known = np.flatnonzero(found.label >= 0)
    if not len(known):
        return None
    sample = int(np.abs(window.frames - frame).argmin())
    places = np.where(
        np.isfinite(window.places[known, sample].real), window.places[known, sample], window.centre[known]
    )
    off = np.abs(places - (still.x + 1j * still.y) / unit)
    name = named[nearest][found.label[known[off.argmin()]]]
    return [np.isin(layer.label, np.flatnonzero(who == name)) for layer, who in zip(layers, named, strict=True)]
