"""Which layer is what stands still: the best chain of layers through a shot's windows (Viterbi 1967).

A background reaches the picture's border, is large and spread, and is what gets covered where others pass in front.
Speed tells nothing: it cannot part parallax from a subject that is held. What a layer's tracks were in the last window
weighs most, so that belief does not hop between two layers.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.motion.belief.layers import Layers
from keen_horizon.core.motion.belief.windows import Window
from keen_horizon.core.motion.tracking import grid_of

STAYING = 6.0
DECIDES = 10.0  # what an editor says: more than all scores and going on together
BORDER, OUTERMOST, AREA, SPREAD, COVERED = 0.3, 0.2, 0.25, 0.25, 0.1
HIGHER = 0.1  # what lies lower in an upright picture is nearer, mostly
MOST_COVERED = 1.5
LEAST_BESIDE = 0.08  # of a window's tracks: scraps of a layer lie along its own edges
SURELY = 2.0  # standard deviations that are taken off
FEW = 8.0  # tracks beside another layer that count for nothing yet
NEAREST = 3  # tracks that stand for a cell, so that few weak points hold a wall
BORDER_DEEP = 2  # cells
BESIDE_PX = 36.0
EDGE_PX = 16.0  # nearer to the picture's edge tracks end by leaving


@dataclass(frozen=True)
class Chain:
    """The believed layer of every window (W,), -1 where there is none, and how much worse the next best chain is (W,),
    of 1 or more where nothing speaks against it.
    """

    layer: NDArray[np.intp]
    margin: Floats


def best_chain(
    windows: Sequence[Window],
    layers: Sequence[Layers],
    names: Sequence[NDArray[np.intp]],
    size: Size,
    chosen: Sequence[NDArray[np.bool_]] | None = None,
) -> Chain:
    """The chain of a shot whose layers go on by `names`. `chosen` are, for each window, the tracks that the editor says
    stand still: they decide.
    """
    covered = _covered_rates(windows, layers, names, size)
    scores = [
        layer_scores(window, found, size) + COVERED * rate
        for window, found, rate in zip(windows, layers, covered, strict=True)
    ]
    if chosen is not None:
        for place, (found, tracks) in enumerate(zip(layers, chosen, strict=True)):
            share = [float(tracks[found.members(k)].mean()) for k in range(len(found.moves))]
            scores[place] = scores[place] + DECIDES * np.array(share)
    kept = [place for place, score in enumerate(scores) if len(score)]
    layer, margin = np.full(len(windows), -1), np.zeros(len(windows))
    if not kept:
        return Chain(layer, margin)
    steps = [_shared(windows[a], layers[a], windows[b], layers[b]) for a, b in pairwise(kept)]
    path, other = _paths([scores[place] for place in kept], steps)
    layer[kept], margin[kept] = path, other
    return Chain(layer, margin)


def layer_scores(window: Window, layers: Layers, size: Size) -> Floats:
    """How much each layer (K,) looks like what stands still."""
    count = len(layers.moves)
    if not count:
        return np.zeros(0)
    shares = _cell_shares(window, layers, size)
    border, outermost = _frames_of_cells(size)
    spread = _spread(shares, size)
    height = shares @ (1 - 2 * cell_middles(size).imag / size.height) / np.maximum(1e-9, shares.sum(1))
    return np.asarray(
        BORDER * shares[:, border].mean(1) + OUTERMOST * shares[:, outermost].mean(1) + AREA * shares.mean(1)
        + SPREAD * spread + HIGHER * height
    )  # fmt: skip


def _cell_shares(window: Window, layers: Layers, size: Size) -> Floats:
    """How far each layer holds each cell, (K, C): the share of the cell's nearest labelled tracks."""
    known = np.flatnonzero(layers.label >= 0)
    middles = cell_middles(size)
    off = np.abs(middles[:, None] - window.centre[known][None])
    nearest = np.argsort(off, axis=1)[:, :NEAREST]
    held = layers.label[known][nearest]
    return np.stack([(held == layer).mean(1) for layer in range(len(layers.moves))])


def cell_middles(size: Size) -> NDArray[np.complex128]:
    """The middles (C,) of the grid's cells, px."""
    across, down = grid_of((size.height, size.width))
    x = (np.arange(across) + 0.5) * size.width / across - 0.5
    y = (np.arange(down) + 0.5) * size.height / down - 0.5
    return np.asarray((x[None] + 1j * y[:, None]).ravel())


def _frames_of_cells(size: Size) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Which cells (C,) lie along the border, and which are its outermost ring."""
    across, down = grid_of((size.height, size.width))
    x, y = np.meshgrid(np.arange(across), np.arange(down))
    depth = np.minimum(np.minimum(x, across - 1 - x), np.minimum(y, down - 1 - y)).ravel()
    return depth < BORDER_DEEP, depth < 1


def _spread(shares: Floats, size: Size) -> Floats:
    """How far apart what each layer holds lies, (K,), of the whole picture's."""
    middles = cell_middles(size)
    found = []
    for share in shares:
        total = max(1e-9, float(share.sum()))
        sides = []
        for along in (middles.real, middles.imag):
            middle = (share * along).sum() / total
            sides.append(np.sqrt((share * (along - middle) ** 2).sum() / total) / along.std())
        found.append(min(1.0, float(np.sqrt(sides[0] * sides[1]))))
    return np.array(found)


def _covered_rates(
    windows: Sequence[Window], layers: Sequence[Layers], names: Sequence[NDArray[np.intp]], size: Size
) -> list[Floats]:
    """By how much more often a layer's tracks, all through the shot, begin or end beside another layer than those of
    others do: a logarithm, for each layer (K,) of each window.
    """
    events: dict[int, float] = {}
    beside: dict[int, float] = {}
    for window, found, name in zip(windows, layers, names, strict=True):
        happened, near = _endings_beside(window, found, size)
        for layer, who in enumerate(name.tolist()):
            events[who] = events.get(who, 0.0) + float(happened[layer])
            beside[who] = beside.get(who, 0.0) + float(near[layer])
    usual = (sum(events.values()) + 1) / (sum(beside.values()) + 4)

    def rate(happened: float, near: float) -> float:
        return (happened + FEW * usual) / (near + FEW)

    told = {}
    for who in events:
        others, beside_others = sum(events.values()) - events[who], sum(beside.values()) - beside[who]
        more = np.log(rate(events[who], beside[who]) / rate(others, beside_others))
        doubt = SURELY * np.sqrt(1 / (events[who] + 0.5) + 1 / (others + 0.5))  # of counts, as a logarithm
        told[who] = np.sign(more) * max(0.0, abs(more) - doubt)
    return [np.array([np.clip(told[who], -MOST_COVERED, MOST_COVERED) for who in name.tolist()]) for name in names]


def _endings_beside(window: Window, layers: Layers, size: Size) -> tuple[Floats, Floats]:
    """How many of each layer's tracks (K,) begin or end beside another layer within the window, and how many are beside
    one in its middle.
    """
    count = len(layers.moves)
    events, beside = np.zeros(count), np.zeros(count)
    sizes = np.bincount(layers.label[layers.label >= 0], minlength=count)
    large = sizes >= LEAST_BESIDE * sizes.sum()
    if large.sum() < 2:
        return events, beside
    layers = Layers(np.where((layers.label >= 0) & large[layers.label], layers.label, -1), layers.moves)
    seen = np.isfinite(window.places.real)
    first, last = seen.argmax(1), seen.shape[1] - 1 - seen[:, ::-1].argmax(1)
    near_now = _near_others(window, layers, np.full(len(window), window.middle))
    for ends, at_border in ((first, 0), (last, seen.shape[1] - 1)):
        near = _near_others(window, layers, ends)
        places = window.places[np.arange(len(window)), ends]
        inside = (np.minimum(places.real, size.width - 1 - places.real) > EDGE_PX) & (
            np.minimum(places.imag, size.height - 1 - places.imag) > EDGE_PX
        )
        happened = near & inside & (ends != at_border)
        events += [happened[layers.members(k)].sum() for k in range(count)]
        beside += [(near_now & layers.members(k)).sum() for k in range(count)]
    return events, beside


def _near_others(window: Window, layers: Layers, sample: NDArray[np.intp]) -> NDArray[np.bool_]:
    """Whether each track (T,) is beside one of another layer in its own sample (T,)."""
    here = window.places[np.arange(len(window)), sample]
    there = window.places[:, sample].T
    other = (layers.label[:, None] != layers.label[None]) & (layers.label[None] >= 0) & (layers.label[:, None] >= 0)
    near = np.abs(np.where(np.isfinite(there.real), there, 1e9) - here[:, None]) < BESIDE_PX
    return np.asarray((near & other).any(1))


def _shared(before: Window, earlier: Layers, after: Window, later: Layers) -> Floats:
    """How far the layers (A, B) of two windows are the same tracks: of those labelled in both, the smaller's.

    Layers that become one for a while, since nothing parts them then, go on as that one.
    """
    _, a, b = np.intersect1d(before.identity, after.identity, assume_unique=True, return_indices=True)
    one, other = earlier.label[a], later.label[b]
    both = (one >= 0) & (other >= 0)
    one, other = one[both], other[both]
    table = np.zeros((len(earlier.moves), len(later.moves)))
    np.add.at(table, (one, other), 1.0)
    smaller = np.minimum(table.sum(1)[:, None], table.sum(0)[None])
    return np.asarray(table / np.maximum(smaller, 1.0))


def _paths(scores: list[Floats], steps: list[Floats]) -> tuple[NDArray[np.intp], Floats]:
    """The best path (W,), and for every window how much worse the best path through another layer is, a window of those
    in which they differ.
    """
    ahead, choice = [scores[0]], []
    for score, step in zip(scores[1:], steps, strict=True):
        total = ahead[-1][:, None] + STAYING * step
        choice.append(total.argmax(0))
        ahead.append(score + total.max(0))
    behind, follow = [np.zeros(len(scores[-1]))], list[NDArray[np.intp]]()
    for score, step in zip(scores[:0:-1], steps[::-1], strict=True):
        total = STAYING * step + (score + behind[0])[None]
        follow.insert(0, total.argmax(1))
        behind.insert(0, total.max(1))

    def through(place: int, layer: int) -> NDArray[np.intp]:
        path = [layer]
        for back in range(place, 0, -1):
            path.insert(0, int(choice[back - 1][path[0]]))
        for on in range(place, len(scores) - 1):
            path.append(int(follow[on][path[-1]]))
        return np.array(path)

    totals = [a + b for a, b in zip(ahead, behind, strict=True)]
    best = through(0, int(totals[0].argmax()))
    margin = np.ones(len(scores))
    for place, total in enumerate(totals):
        others = [k for k in range(len(total)) if k != best[place]]
        for layer in others:
            apart = int((through(place, layer) != best).sum())
            margin[place] = min(margin[place], float(total[best[place]] - total[layer]) / max(1, apart))
    return best, margin
