"""From measured motion to the steadied path.

With poses P (reference_from_source) and a correction S per frame, the camera seems to move along
V = P S. A wish says what V is drawn to; with the measured path as target (Glide) the free minimiser is a
linear filter, the third-order Whittaker smoother (Eilers 2003), whose gain at period p is
1 / (1 + l3 (2 sin(pi / p))^6): `response_s` is the period at which half of a movement is kept, so it
means seconds. That differs from penalties of all three differences without a target, where only the
crop decides what remains and no figure has a unit.

First the free path is solved; if its zoom is within the limit, that is the answer and costs no more
than it needs. Otherwise the window is fixed at the limit and the program solved with containment.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.breathing import breathing_zoom
from keen_horizon.core.path.program import corrections
from keen_horizon.core.path.shots import shots
from keen_horizon.core.path.window import window_zoom
from keen_horizon.core.path.wish import wish_for
from keen_horizon.core.treatment import Framing, Treatment, Window

Floats = NDArray[np.float64]

SAFETY = 1 + 1e-7


@dataclass(frozen=True)
class CameraPath:
    """The steadied path of N frames, centred coordinates (see `window`).

    `src_from_out` (N,) is the planar correction with its zoom; `wanted_zoom` (N,) the enlargement each
    frame would need if no limit held, `window` (N,) the shrinking of the window in the steadied frame;
    `measured` and `steadied` are the poses before and after; `limited` tells whether the zoom limit
    changed the path.
    """

    size: Size
    first: int
    src_from_out: Similarities
    wanted_zoom: Floats
    window: Floats
    measured: Similarities
    steadied: Similarities
    limited: bool

    @property
    def zoom(self) -> Floats:
        """Enlargement of every frame (N,)."""
        return np.asarray(1 / np.abs(self.src_from_out.z))

    def out_from_src(self) -> Floats:
        """The planar correction as matrices (N, 3, 3) in pixels of the display size."""
        return np.asarray(np.linalg.inv(self.matrices()), np.float64)

    def matrices(self) -> Floats:
        """src_from_out (N, 3, 3) in pixels of the display size."""
        return self.src_from_out.about(-self.size.centre).matrices()


def solve_path(measurement: Measurement, treatment: Treatment) -> CameraPath:
    """The path for a treatment; `measurement` covers exactly the range. Every shot is solved by itself.

    Raises SolveError when the solver fails.
    """
    return PathProblem(measurement, treatment).path(treatment.framing.zoom_limit)


class PathProblem:
    """A range's path before a zoom limit is chosen: what does not depend on it is solved once."""

    def __init__(self, measurement: Measurement, treatment: Treatment) -> None:
        self._framing = treatment.framing
        self._shots = [_ShotProblem(shot, treatment) for shot in shots(measurement)]

    def path(self, limit: float) -> CameraPath:
        """The path within a zoom limit. Raises SolveError."""
        paths = [shot.path(limit) for shot in self._shots]
        path = paths[0] if len(paths) == 1 else _joined(paths)
        if self._framing.edges == "trim":
            path = _at_one_size(path)
        return _nudged(path, self._framing.window)


class _ShotProblem:
    def __init__(self, shot: Measurement, treatment: Treatment) -> None:
        self.motion, self.framing = treatment.motion, treatment.framing
        self.size, self.first, self.rate = shot.size, shot.first, shot.rate
        self.poses = shot.poses.about(shot.size.centre)
        self.moves = self.motion.intent is not None and bool(self.motion.freedom) and len(shot) > 1
        if self.moves:
            self.wish = wish_for(self.poses, self.motion, self.size, self.first, self.rate)
            self.free = corrections(self.poses, self.wish, self.size, None)
            self.demand = np.minimum(window_zoom(self.free, self.size), 99.0)

    def path(self, limit: float) -> CameraPath:
        count = len(self.poses)
        if not self.moves:
            return self._made(Similarities.identity(count), np.ones(count), np.ones(count), False)
        wanted = np.asarray(self.demand / np.abs(self.free.z))
        if self.framing.edges == "leave":
            return self._made(self.free, np.ones(count), wanted, False)
        window = _window(self.demand, self.framing, self.rate)
        if float((window / np.abs(self.free.z)).max()) <= limit:
            return self._made(self.free, window, wanted, False)
        smallest = min(1.0, float(np.abs(self.free.z).min())) if "size" in self.motion.freedom else 1.0
        base = max(1.0, limit * max(0.9, smallest))
        bound = corrections(self.poses, self.wish, self.size, (base, limit))
        most = max(1.0, limit * float(np.abs(bound.z).min()))
        window = np.minimum(_window(window_zoom(bound, self.size), self.framing, self.rate), most)
        return self._made(bound, window, wanted, True)

    def _made(self, correction: Similarities, window: Floats, wanted: Floats, limited: bool) -> CameraPath:
        made = Similarities(correction.z / window, correction.t)
        return CameraPath(
            self.size, self.first, made, wanted, window, self.poses, self.poses @ correction, limited
        )  # fmt: skip


def _window(demand: Floats, framing: Framing, rate: float) -> Floats:
    """What the window is shrunk by (N,) so that it holds no gap: by one figure, or breathing."""
    if framing.zoom == "breathing" and framing.edges == "fill":
        return breathing_zoom(demand, framing.zoom_rate, rate) * SAFETY
    return np.full(len(demand), max(1.0, float(demand.max())) * SAFETY)


def _joined(paths: list[CameraPath]) -> CameraPath:
    def joined(parts: list[Similarities]) -> Similarities:
        return Similarities(np.concatenate([p.z for p in parts]), np.concatenate([p.t for p in parts]))

    return CameraPath(
        paths[0].size, paths[0].first,
        joined([path.src_from_out for path in paths]),
        np.concatenate([path.wanted_zoom for path in paths]),
        np.concatenate([path.window for path in paths]),
        joined([path.measured for path in paths]),
        joined([path.steadied for path in paths]),
        any(path.limited for path in paths),
    )  # fmt: skip


def _at_one_size(path: CameraPath) -> CameraPath:
    """All shots through a window of the smallest size: a trimmed picture has one."""
    most = np.full(len(path.window), path.window.max())
    made = Similarities(path.src_from_out.z * path.window / most, path.src_from_out.t)
    return replace(path, src_from_out=made, window=most)


def _nudged(path: CameraPath, window: Window) -> CameraPath:
    """The window moved by hand: within its own frame, after everything that was solved."""
    if window.untouched:
        return path
    turn = np.exp(1j * np.radians(window.turn_deg))
    count = len(path.src_from_out)
    nudge = Similarities(np.full(count, turn / window.scale), np.full(count, complex(window.x, window.y)))
    return replace(path, src_from_out=path.src_from_out @ nudge)
