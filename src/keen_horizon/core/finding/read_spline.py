"""A spline over a camera's motion, and which of its controls each point of read rows hangs on."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import scipy.sparse
from numpy.typing import NDArray

from keen_horizon.core.finding.read_pairs import ReadPairs
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.glass.shutter import FURTHEST


@dataclass(frozen=True)
class Spline:
    """A uniform cubic B-spline with `knots` controls a frame, `count` of them, the first value at `start`.

    Differences of some `order` of its controls are drawn to nothing; readouts are no longer than `longest`, pairs than
    `lasting`.
    """

    start: float
    knots: float
    count: int
    order: int
    longest: float
    lasting: float

    @staticmethod
    def over(pairs: ReadPairs, longest: float, knots: float, order: int) -> Spline:
        """One for the motion of some pairs."""
        first, last = float(pairs.began[0]) - FURTHEST, float((pairs.began + pairs.lasted).max()) + FURTHEST
        return Spline(first, knots, int(np.ceil((last - first) * knots)) + 4, order, longest, float(pairs.lasted.max()))

    @property
    def span(self) -> int:
        """How many controls the points of one pair touch."""
        return int(np.ceil((self.lasting + self.longest) * self.knots)) + 5

    @property
    def times(self) -> Floats:
        """When each control counts most."""
        return np.asarray(self.start + (np.arange(self.count) - 1) / self.knots)

    def opens(self, began: Floats) -> NDArray[np.intp]:
        """The first control that the points of pairs touch."""
        found = np.floor((began - self.longest / 2 - self.start) * self.knots).astype(np.intp)
        return np.asarray(np.minimum(found, self.count - self.span))

    def at(self, times: Floats) -> tuple[NDArray[np.intp], Floats, Floats]:
        """The first of the four controls that make the value at each time, their weights (..., 4) and slopes."""
        place = np.clip((times - self.start) * self.knots, 0, self.count - 3 - 1e-9)
        first = place.astype(np.intp)
        u = place - first
        weights = np.stack([(1 - u) ** 3, 3 * u**3 - 6 * u**2 + 4, -3 * u**3 + 3 * u**2 + 3 * u + 1, u**3], -1) / 6
        slopes = np.stack([-((1 - u) ** 2), 3 * u**2 - 4 * u, -3 * u**2 + 2 * u + 1, u**2], -1) / 2 * self.knots
        return first, weights, slopes


@dataclass(frozen=True)
class Moments:
    """When both ends of the M points of E pairs were read: a point moves by the `shares` (E, M, S) of the S controls
    from `opens` (E,) on, and by `slopes` of them for the readout, where that is sought.
    """

    opens: NDArray[np.intp]
    shares: Floats
    slopes: Floats | None

    @staticmethod
    def of(pairs: ReadPairs, spline: Spline, readout: float, known: bool = False) -> Moments:
        """Those of a readout, which may be `known`."""
        opens = spline.opens(pairs.began)
        shares = np.zeros((*pairs.source.shape, spline.span))
        slopes = None if known else np.zeros_like(shares)
        pair, point = np.ogrid[: shares.shape[0], : shares.shape[1]]
        ended = pairs.began + pairs.lasted
        for middle, later, sign in ((pairs.began, pairs.early, -1.0), (ended, pairs.late, 1.0)):
            first, weights, rising = spline.at(middle[:, None] + readout * later)
            place = first - opens[:, None]
            for i in range(4):
                shares[pair, point, place + i] += sign * weights[..., i]
                if slopes is not None:
                    slopes[pair, point, place + i] += sign * later * rising[..., i]
        return Moments(opens, shares, slopes)

    def windows(self, controls: Floats) -> Floats:
        """The controls (E, S, FIGURES) that each pair's points touch, of all (K, FIGURES)."""
        return np.asarray(controls[self.opens[:, None] + np.arange(self.shares.shape[2])])

    def shared_out(self, products: Floats, count: int) -> Floats:
        """Sums over points of their `products` (P, E, M), shared out to every two of the controls that a point touches:
        (S, count, P), by how far the two lie apart and which is the earlier.
        """
        span = self.shares.shape[2]
        later, earlier = np.tril_indices(span)
        both = self.shares[..., later] * self.shares[..., earlier]
        sums = (np.swapaxes(both, 1, 2) @ np.moveaxis(products, 0, 2)).reshape(-1, len(products))
        places = (count * (later - earlier) + earlier + self.opens[:, None]).ravel()
        onto = scipy.sparse.csc_array(
            (np.ones(len(places)), places, np.arange(len(places) + 1)), (span * count, len(places))
        )
        return np.asarray((onto @ sums).reshape(span, count, -1), np.float64)


def parts_read(
    pairs: ReadPairs, spline: Spline, readout: float, known: bool = False
) -> Iterator[tuple[ReadPairs, Moments]]:
    """Some pairs at a time, with the moments at which a readout, which may be `known`, reads their points."""
    for part in pairs.parts():
        yield part, Moments.of(part, spline, readout, known)
