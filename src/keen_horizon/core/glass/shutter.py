"""A rolling shutter: rows that are read one after another, each at a moment of its own.

The moment of a row, in frames, is frame + readout (row / rows - 1/2): a frame's own number is its middle row's. What
the camera did between the two moved the row: by a growth and turn g, a shift t and a tilt q, small all of them,

    read(p) = exp(g / h) p / (1 + Re(conj(q) p) / h^2) + t,     h half the diagonal, p px from the picture's middle,

which keeps straight lines straight and is undone in closed form. It moves points of the straightened picture, where a
turning camera moves all of them so, however wide the lens.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex, as_points

FURTHEST = 1.2  # frames: no camera takes longer to read its rows
LEAST_SEEN = 0.03  # frames: less moves no row by as much as points are followed exactly (a choice)
SURE = 0.02  # the largest doubt of a readout that is told
NODES = 9  # rows at which a frame's motion is kept, linear between: 0.02 px off where 3 px vibrate 8 times a second
FIGURES = 6  # log size, turn (both times the half-diagonal), shift right, shift down, tilt right, tilt down: px each
LEAST_DEPTH = 0.05  # of a tilted point: what lies further was not seen


@dataclass(frozen=True)
class Readout:
    """The time from a frame's first row to its last, `frames`, as a share of the time between frames.

    Negative where the last row is read first. `doubt` is its standard error; `enough` whether the clip moved enough,
    and agrees enough, to tell. `turns` are the quarter turns anticlockwise that made the stored pictures upright.
    """

    frames: float
    doubt: float
    enough: bool
    turns: int = 0

    @property
    def confidence(self) -> float:
        """From 1, known exactly, over 0.5, barely told, to 0, not told."""
        return float(1 - self.doubt / (2 * SURE)) if self.enough else 0.0

    @property
    def seen(self) -> bool:
        """Whether it is told, and long enough to be seen."""
        return self.enough and abs(self.frames) >= LEAST_SEEN

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON, for others."""
        return {"frames": round(self.frames, 4), "confidence": round(self.confidence, 3), "enough": self.enough}


UNKNOWN = Readout(0.0, float("inf"), False)


def row_shares(points: Complex, width: float, height: float, turns: int) -> Floats:
    """Where points, px from the middle, lie between the sensor's first row (-1/2) and its last (1/2).

    The stored picture's way down points right, up or left once quarter `turns` anticlockwise made it upright.
    """
    down = (1j, 1 + 0j, -1j, -1 + 0j)[turns % 4]
    rows = height if turns % 2 == 0 else width
    return np.asarray((np.conj(down) * points).real / rows)


@dataclass(frozen=True, eq=False)
class RowMotion:
    """How the rows of N frames moved the straightened picture against its middle row's moment.

    `figures` (N, NODES, FIGURES) hold at even steps from the sensor's first row to its last; `of` (P,) says whose frame
    each point is, or is the one frame of them all. `taken` (N,) is the share of the motion that is undone.
    """

    figures: Floats
    size: Size
    turns: int
    taken: Floats
    of: NDArray[np.intp] | int = 0

    def __len__(self) -> int:
        return len(self.figures)

    def whose(self, of: NDArray[np.intp] | int) -> RowMotion:
        """For points of one frame, or each of its own (P,)."""
        return replace(self, of=of)

    def eased(self, share: Floats) -> RowMotion:
        """The same, of which only a `share` (N,) is undone."""
        return replace(self, taken=self.taken * share)

    def shares(self, points: Floats) -> Floats:
        """Where source points (P, 2) lie between the sensor's first row (-1/2) and its last (1/2); no further."""
        places = as_complex(points) - self.size.centre
        return np.clip(row_shares(places, self.size.width, self.size.height, self.turns), -0.5, 0.5)

    def read(self, points: Floats, shares: Floats) -> Floats:
        """Where straightened points (P, 2) of the middle row's moment lay when rows at `shares` (P,) were read."""
        growth, shift, tilt = self._at(shares)
        places = as_complex(points) - self.size.centre
        depth = 1 + (np.conj(tilt) * places).real / self.size.half_diagonal**2
        return self._settled(growth * places, depth, shift, points)

    def unread(self, points: Floats, shares: Floats) -> Floats:
        """The reverse: where points (P, 2) that were read at `shares` (P,) lay at the middle row's moment."""
        growth, shift, tilt = self._at(shares)
        places = (as_complex(points) - self.size.centre - shift) / growth
        depth = 1 - (np.conj(tilt) * places).real / self.size.half_diagonal**2
        return self._settled(places, depth, np.zeros_like(shift), points)

    def _settled(self, places: Complex, depth: Floats, shift: Complex, given: Floats) -> Floats:
        seen = depth > LEAST_DEPTH
        moved = as_points(places / np.where(seen, depth, 1.0) + shift + self.size.centre)
        moved[~seen] = NOWHERE
        return np.where(is_nowhere(given)[:, None], given, moved)

    def _at(self, shares: Floats) -> tuple[Complex, Complex, Complex]:
        """Growth and turn as a factor, shift and tilt at `shares` (P,)."""
        place = (shares + 0.5) * (NODES - 1)
        node = np.minimum(place.astype(np.intp), NODES - 2)
        later = place - node
        frames = slice(None)
        if isinstance(self.of, np.ndarray):
            node = node + NODES * self.of
        else:
            frames = slice(self.of, self.of + 1)
        growth, shift, tilt = self._nodes(frames).reshape(-1, FIGURES // 2).T
        return _between(growth, node, later), _between(shift, node, later), _between(tilt, node, later)

    def _nodes(self, frames: slice) -> Complex:
        """Growth and turn as a factor, shift and tilt, px, of frames at their nodes (N, NODES, 3)."""
        figures = self.figures[frames] * self.taken[frames, None, None]
        nodes = figures[..., ::2] + 1j * figures[..., 1::2]
        nodes[..., 0] = np.exp(nodes[..., 0] / self.size.half_diagonal)
        return np.asarray(nodes)

    def lowered(self) -> Floats:
        """The nodes of all frames (N, NODES, FIGURES) as a viewer looks them up: factor, shift and tilt, real and
        imaginary by turns, lengths in half-diagonals.
        """
        nodes = self._nodes(slice(None)) / (1.0, self.size.half_diagonal, self.size.half_diagonal)
        return np.stack([nodes.real, nodes.imag], -1).reshape(len(nodes), NODES, FIGURES)


def _between(values: Complex, node: NDArray[np.intp], later: Floats) -> Complex:
    """Values (K,) a share `later` (P,) after `node` (P,), on the way to the next."""
    onward = np.append(np.diff(values), 0)
    return np.asarray(values[node] + later * onward[node])
