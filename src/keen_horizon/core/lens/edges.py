"""Long smooth edges of a picture, to a fraction of a pixel: what may be straight in the world.

Edges (Canny 1986) are followed into chains, put at the gradient's peak across them, split at corners, and
joined end to end where one smooth curve runs through both: window rows and railings come in pieces.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Gray = NDArray[np.uint8]
Floats = NDArray[np.float64]
Marks = NDArray[np.bool_]

SIGMA = 1.2
LEAST_EDGE = 3.0  # steps of grey a pixel, after smoothing
STRONG = 0.92  # of the gradients, the share that is weaker than a strong edge
SHORTEST = 22  # px of the picture analysed
TANGENT = 7  # px to either side that tell a direction
CORNER = np.radians(14)
SMOOTH_PX = 0.55
REACH = 0.16  # of the width: the widest gap that is joined over
AGREE = np.radians(5)
JOINED_PX = 0.7
MOST_PIECES = 500


def long_edges(gray: Gray, shortest: float) -> list[Floats]:
    """Smooth edges (P, 2) from end to end, at least `shortest` px long, longest first."""
    pieces = [piece for chain in _chains(gray) for piece in _smooth(chain)]
    pieces = sorted(pieces, key=_length, reverse=True)[:MOST_PIECES]
    joined = _joined(pieces, REACH * gray.shape[1])
    return sorted((edge for edge in joined if _length(edge) >= shortest), key=_length, reverse=True)


def nearest_edge(gray: Gray, place: Floats, reach: float) -> Floats | None:
    """The place (2,) on the clearest edge within `reach` px of `place`, near ones first, to a fraction of a pixel."""
    strength, across, down = _gradient(gray)
    rows, columns = np.indices(gray.shape)
    far = np.hypot(columns - place[0], rows - place[1])
    worth = np.where(far <= reach, strength * (1 - 0.7 * far / reach), 0)
    row, column = np.unravel_index(int(np.argmax(worth)), worth.shape)
    if strength[row, column] < LEAST_EDGE:
        return None
    return np.asarray(_peaks(np.array([[column, row]], np.int32), strength, across, down)[0])


def _gradient(gray: Gray) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]:
    """Size of the smoothed picture's slope, and the slope across and down, steps of grey a pixel."""
    soft = cv2.GaussianBlur(gray, (0, 0), SIGMA).astype(np.float32)
    across, down = (cv2.Sobel(soft, cv2.CV_32F, *order, scale=0.25) for order in ((1, 0), (0, 1)))
    return cv2.magnitude(across, down), across, down


def _length(points: Floats) -> float:
    return float(np.hypot(*(points[-1] - points[0])))


def _chains(gray: Gray) -> list[Floats]:
    """Chains (P, 2) of edge points between ends and junctions, at the peaks of the gradient."""
    strength, across, down = _gradient(gray)
    high = max(6.0, float(np.quantile(strength, STRONG)))
    dx, dy = (np.rint(part).astype(np.int16) for part in (4 * across, 4 * down))
    edges = cv2.Canny(dx, dy, 4 * 0.4 * high, 4 * high, L2gradient=True) > 0
    neighbours = cv2.filter2D(edges.astype(np.uint8), -1, np.ones((3, 3), np.uint8), borderType=cv2.BORDER_CONSTANT)
    junction = edges & (neighbours > 3)
    thin = edges & (cv2.dilate(junction.astype(np.uint8), np.ones((3, 3), np.uint8)) == 0)
    outlines, _ = cv2.findContours(thin.astype(np.uint8), cv2.RETR_LIST, cv2.CHAIN_APPROX_NONE)
    found = (_opened(outline[:, 0]) for outline in outlines if len(outline) >= SHORTEST)
    return [_peaks(chain, strength, across, down) for chain in found if len(chain) >= SHORTEST]


def _opened(outline: NDArray[np.int32]) -> NDArray[np.int32]:
    """The chain whose outline, there and back, this is; a closed loop as it is."""
    turned = (np.roll(outline, 1, 0) == np.roll(outline, -1, 0)).all(1)
    ends = np.flatnonzero(turned)
    if len(ends) < 2:
        return outline
    rolled = np.roll(outline, -ends[0], 0)
    return rolled[: ends[1] - ends[0] + 1]


def _peaks(
    chain: NDArray[np.int32], strength: NDArray[np.float32], across: NDArray[np.float32], down: NDArray[np.float32]
) -> Floats:
    """The chain moved to where the gradient peaks across it, by a parabola through three places."""
    x, y = chain[:, 0], chain[:, 1]
    size = np.maximum(strength[y, x], 1e-6)
    way = np.stack([across[y, x], down[y, x]], -1) / size[:, None]
    places = chain.astype(np.float32)

    def at(step: float) -> NDArray[np.float32]:
        there = places + step * way
        found = cv2.remap(strength, there[None, :, 0], there[None, :, 1], cv2.INTER_LINEAR, None, cv2.BORDER_REPLICATE)
        return np.asarray(found[0], np.float32)

    before, here, after = at(-1), at(0), at(1)
    bend = before - 2 * here + after
    shift = np.where(bend < -1e-3, 0.5 * (before - after) / np.minimum(bend, -1e-3), 0.0)
    return np.asarray(chain + np.clip(shift, -1, 1)[:, None] * way, np.float64)


def _smooth(chain: Floats) -> list[Floats]:
    """Pieces of a chain without corners, each near one parabola."""
    places = chain @ [1, 1j]
    middle = places[TANGENT:-TANGENT]
    turn = np.angle((places[2 * TANGENT :] - middle) * np.conj(middle - places[: -2 * TANGENT]))
    sharp = np.zeros(len(chain), np.bool_)
    sharp[TANGENT:-TANGENT] = np.abs(turn) > CORNER
    pieces, start = [], 0
    for end in [*np.flatnonzero(sharp), len(chain)]:
        if end - start >= SHORTEST:
            pieces += _parabolic(chain[start:end])
        start = end + 1
    return pieces


def _parabolic(piece: Floats) -> list[Floats]:
    """The piece, or parts of it, whose points lie near one curve of third order."""
    if len(piece) < SHORTEST or _length(piece) < SHORTEST:
        return []
    off = _offsets(piece)
    if np.sqrt((off**2).mean()) <= SMOOTH_PX:
        return [piece]
    at = int(np.argmax(np.abs(off[5:-5]))) + 5
    return _parabolic(piece[:at]) + _parabolic(piece[at + 1 :])


def _offsets(points: Floats, order: int = 3) -> Floats:
    """How far points are from the best curve of an order across their chord."""
    along, aside = _chord(points)
    scaled = along / max(1e-9, float(np.abs(along).max()))
    return np.asarray(aside - np.polynomial.polynomial.polyval(scaled, _fit(scaled, aside, order)))


def _chord(points: Floats) -> tuple[Floats, Floats]:
    middle = points.mean(0)
    way = np.linalg.svd(points - middle, full_matrices=False)[2][0]
    off = points - middle
    return off @ way, off @ np.array([-way[1], way[0]])


def _fit(x: Floats, y: Floats, order: int) -> Floats:
    powers = np.vander(x, order + 1, increasing=True)
    return np.asarray(np.linalg.lstsq(powers, y, rcond=None)[0])


@dataclass(frozen=True)
class _End:
    """An end of a piece: its place, and the direction in which it would go on."""

    piece: int
    last: bool
    place: complex
    way: complex


def _joined(pieces: list[Floats], reach: float) -> list[Floats]:
    """Pieces joined end to end, nearest and straightest first, while one smooth curve runs through both."""
    pieces = list(pieces)
    for _ in range(3):
        if len(pieces) < 2:
            break
        ends = [end for i, piece in enumerate(pieces) for end in _ends(i, piece)]
        places, ways = np.array([e.place for e in ends]), np.array([e.way for e in ends])
        gap = places[None, :] - places[:, None]
        far = np.abs(gap)
        unit = gap / np.maximum(far, 1e-9)
        lean = np.maximum(np.abs(np.angle(unit / ways[:, None])), np.abs(np.angle(-unit / ways[None, :])))
        owner = np.array([e.piece for e in ends])
        lengths = np.array([_length(piece) for piece in pieces])[owner]
        fair = (far < reach) & (far < 2.0 * np.minimum(lengths[:, None], lengths[None, :]))
        fair &= (lean < AGREE + 1.5 / np.maximum(far, 1.0)) & (owner[:, None] != owner[None, :])
        pairs = np.argwhere(np.triu(fair))
        order = np.argsort((far * (0.1 + lean))[pairs[:, 0], pairs[:, 1]])
        used: set[int] = set()
        merged: list[Floats] = []
        for a, b in pairs[order]:
            first, second = ends[a], ends[b]
            if first.piece in used or second.piece in used:
                continue
            whole = _linked(pieces[first.piece], first.last, pieces[second.piece], second.last)
            if whole is not None:
                used |= {first.piece, second.piece}
                merged.append(whole)
        if not merged:
            break
        pieces = merged + [piece for i, piece in enumerate(pieces) if i not in used]
    return pieces


def _ends(index: int, piece: Floats) -> list[_End]:
    """Both ends, with directions from a parabola through the piece's outer part."""
    found = []
    for last in (False, True):
        part = (piece if last else piece[::-1])[-max(12, min(len(piece), 40)) :]
        way = (part[-1] - part[0]) @ [1, 1j]
        middle = part[len(part) // 2]
        bend = np.angle(((part[-1] - middle) @ [1, 1j]) / ((middle - part[0]) @ [1, 1j]))
        found.append(_End(index, last, complex(part[-1] @ [1, 1j]), complex(way / abs(way) * np.exp(0.5j * bend))))
    return found


def _linked(first: Floats, first_last: bool, second: Floats, second_last: bool) -> Floats | None:
    """Both in order, where they lie on one smooth curve no more bent than either needs."""
    whole = np.concatenate([first if first_last else first[::-1], second[::-1] if second_last else second])
    off = _offsets(whole)
    if np.sqrt((off**2).mean()) > JOINED_PX or np.abs(off).max() > 4 * JOINED_PX:
        return None
    return whole
