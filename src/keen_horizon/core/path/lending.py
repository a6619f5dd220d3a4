"""The path of a shot whose frames lend each other what is missing at the edges, for every way of steadying."""

from __future__ import annotations

from abc import ABC, abstractmethod
from functools import cached_property
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.path.borrowing import Borrowing
from keen_horizon.core.path.breathing import SAFETY
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.treatment.edges import Edges

Floats = NDArray[np.float64]
Way = TypeVar("Way")

ROOMS = 6
UNLIMITED = 1e9  # a zoom limit that binds nothing


class LendingShot(ABC, Generic[Way]):
    """A shot that knows its free way, and by how much its windows must be shrunk along it: `demand` (N,).

    Their middle lies at `rest` where a limit binds and where frames lend, px from that of the frame.
    """

    edges: Edges
    rest: complex
    demand: Floats
    free_way: Way

    @abstractmethod
    def base(self, limit: float) -> float:
        """How far the window is shrunk under a limit."""

    @abstractmethod
    def bound_way(self, inner: float, least_size: float) -> Way:
        """The way that keeps a window shrunk by `inner` inside the frame's own picture. Raises SolveError."""

    @abstractmethod
    def sizes(self, way: Way) -> Floats:
        """How large frames lie in the steadied ones (N,)."""

    @abstractmethod
    def own_demand(self, way: Way) -> Floats:
        """The smallest Z (N,) whose window needs nothing that is lent."""

    @abstractmethod
    def borrowing(self, way: Way, own: Floats) -> Borrowing:
        """What frames lend each other along a way, whose windows shrunk by `own` (N,) need nothing that is lent."""

    @abstractmethod
    def made(
        self,
        way: Way,
        shrink: Floats,
        wanted: Floats,
        limited: bool,
        borrowed: Borrowing | None = None,
        middle: complex = 0j,
    ) -> CameraPath:
        """The path of a way, with its window about a place."""

    @cached_property
    def free_lent(self) -> Borrowing:
        """What frames lend each other along the free way."""
        return self.borrowing(self.free_way, self.demand)

    @cached_property
    def _tried(self) -> dict[float, CameraPath]:
        return {}

    def lent(self, limit: float, wanted: Floats) -> CameraPath:
        """The freest path whose window, with what the frames lend each other, needs no more than the limit."""
        count = len(wanted)
        found = self.free_lent
        if self.edges.borrow.rest == "leave":
            return self.made(self.free_way, np.ones(count), wanted, False, found, self.rest)
        shrink = max(1.0, min(float(found.demand().max()), float(self.demand.max())) * SAFETY)
        if shrink / float(self.sizes(self.free_way).min()) <= limit:
            return self.made(self.free_way, np.full(count, shrink), wanted, False, found, self.rest)
        return self._lent_within(limit, wanted)

    def _lent_within(self, limit: float, wanted: Floats) -> CameraPath:
        """The path with the most room of its own whose window, with what is lent, keeps the limit.

        Rooms are the same few for every limit, so a trade-off curve shows what a solve gives and solves each
        once. Halving between them finds a room that fits; where none does, the picture's own must do.
        """
        base = self.base(limit)
        rooms = np.linspace(1, float(self.demand.max()), ROOMS + 1)[1:]
        low, high = int(np.searchsorted(rooms, base)), len(rooms)
        best: CameraPath | None = None
        while low < high:
            middle = (low + high) // 2
            path = self._lent_at(float(rooms[middle]), wanted)
            if path.zoom.max() <= limit:
                best, low = path, middle + 1
            else:
                high = middle
        return best or self._lent_own(base, limit, wanted)

    def _lent_at(self, room: float, wanted: Floats) -> CameraPath:
        """The path whose own picture holds a window shrunk by `room`, shown as far as frames lend."""
        if room not in self._tried:
            way = self.bound_way(room, self.base(UNLIMITED) / UNLIMITED)
            self._tried[room] = self._lent_made(way, np.inf, wanted)
        return self._tried[room]

    def _lent_own(self, base: float, limit: float, wanted: Floats) -> CameraPath:
        """The path that needs nothing lent to keep the limit, shown with what is."""
        way = self.bound_way(base, base / limit)
        return self._lent_made(way, limit * float(self.sizes(way).min()), wanted)

    def _lent_made(self, way: Way, most: float, wanted: Floats) -> CameraPath:
        own = self.own_demand(way)
        found = self.borrowing(way, own)
        shrink = max(1.0, min(min(float(found.demand().max()), float(own.max())) * SAFETY, most))
        return self.made(way, np.full(len(wanted), shrink), wanted, True, found, self.rest)
