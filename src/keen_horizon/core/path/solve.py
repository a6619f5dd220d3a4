"""From measured motion to the steadied path.

With poses P (reference_from_source) and a correction S per frame, the camera seems to move along
V = P S. A wish says what V is drawn to; with the measured path as target (Glide) the free minimiser is a
linear filter, the third-order Whittaker smoother (Eilers 2003), whose gain at period p is
1 / (1 + l3 (2 sin(pi / p))^6): `response_s` is the period at which half of a movement is kept, so it
means seconds. That differs from penalties of all three differences without a target, where only the
crop decides what remains and no figure has a unit.

How a shot is solved stands in `planar`, and in `turned_camera` where the camera is turned behind its lens.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.behind_lens import straightened
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.bending.solving import bent
from keen_horizon.core.path.borrowing import RAYS
from keen_horizon.core.path.camera_path import CameraPath, joined_paths
from keen_horizon.core.path.marks import straightened_marks
from keen_horizon.core.path.planar import Glass, PlanarShot
from keen_horizon.core.path.seen_through import Hiding, hiding, hiding_in_part, room_for_rows, seen_through, within_room
from keen_horizon.core.path.shots import shots
from keen_horizon.core.path.turned_camera import TurningShot, turning_shots
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.edges import Edges, Window
from keen_horizon.core.treatment.output import Output

Floats = NDArray[np.float64]

MOST_ROOMS = 16  # that rows get, kept at once: a curve asks for no more
ROWS_SHARE = 0.5  # of what a zoom limit allows: the most that rows may ask for, so that some is left for the path

DEAD_SHARE = 0.75  # of what a zoom limit and rows leave: the most that hiding dead edges may ask for, likewise


def limit_that_hides(zoom: float) -> float:
    """The smallest zoom limit, thousandths, under which a dead edge that a zoom hides is hidden."""
    return float(np.ceil(1000 * (1 + (zoom - 1) / DEAD_SHARE) + 1e-6) / 1000)


def solve_path(measurement: Measurement, treatment: Treatment, pins: tuple[PinTrack, ...] = ()) -> CameraPath:
    """The path for a treatment; `measurement` covers exactly the range. Every shot is solved by itself.

    `pins` are the tracks of the treatment's pinned points. Raises SolveError when the solver fails,
    TreatmentError when a track is missing.
    """
    edges = treatment.edges
    unlimited = edges.model_copy(update={"zoom_limit": Edges().zoom_limit, "window": Window()})
    kept = {"edges": unlimited, "output": Output()}  # what does not matter before a limit is chosen
    problem = _problem(measurement, treatment.model_copy(update=kept), pins)
    path = replace(problem.path_anew(edges.zoom_limit), nudge=edges.window)
    return bent(path, problem.believed, treatment.motion, edges)


@kept_lately
def _problem(measurement: Measurement, treatment: Treatment, pins: tuple[PinTrack, ...]) -> PathProblem:
    return PathProblem(measurement, treatment, pins)


class PathProblem:
    """A range's path before a zoom limit is chosen: what does not depend on it is solved once.

    What frames lend is looked for along `rays` rays; fewer do where only figures are wanted.
    """

    def __init__(
        self, measurement: Measurement, treatment: Treatment, pins: tuple[PinTrack, ...] = (), rays: int = RAYS
    ) -> None:
        self._edges, self._rays = treatment.edges, rays
        self.believed = measurement = believed_as(measurement, treatment.motion.belief)
        self._measurement, self._treatment, self._pins = measurement, treatment, pins
        self._through = seen_through(measurement, treatment)
        stage = self._through.stage
        if stage is not None and not self._through.turning:
            self._measurement = straightened(measurement, stage)
            self._treatment, self._pins = straightened_marks(treatment, pins, stage)
        self._within: dict[tuple[float, float], list[PlanarShot] | list[TurningShot]] = {}
        self._lock = Lock()

    def path_anew(self, limit: float) -> CameraPath:
        """The path within a zoom limit, the same whatever was asked for before; safe among threads.

        Raises SolveError.
        """
        with self._lock:
            for shot in self._shots(limit):
                shot.forget()
            return self.path(limit)

    def path(self, limit: float) -> CameraPath:
        """The path within a zoom limit. Raises SolveError."""
        paths = [shot.path(limit) for shot in self._shots(limit)]
        path = paths[0] if len(paths) == 1 else joined_paths(paths)
        if self._edges.way == "trim":
            path = replace(path, shrink=np.full(len(path), path.shrink.max()))
        return replace(path, nudge=self._edges.window)

    @cached_property
    def _row_room(self) -> float:
        """The zoom that undoing all rows asks for."""
        stage = self._through.stage
        return float(room_for_rows(stage, len(self._measurement)).max()) if stage is not None else 1.0

    @cached_property
    def _hides(self) -> Hiding:
        """What hides dead edges on frames as they stand."""
        return hiding(self._through.stage, len(self._measurement), not self._through.turning)

    def _shots(self, limit: float) -> list[PlanarShot] | list[TurningShot]:
        """The shots' problems; rows that move further than a limit leaves room for are undone in part, and dead edges
        that ask for more than that stay in sight in part.
        """
        room, hidden = self._row_room, self._hides.zoom
        if self._edges.way != "leave":
            room = min(room, 1 + ROWS_SHARE * (limit - 1))
            hidden = min(hidden, 1 + DEAD_SHARE * max(0.0, limit / room - 1))
        if (room, hidden) not in self._within:
            if len(self._within) >= MOST_ROOMS:
                self._within.clear()
            self._within[room, hidden] = self._problems(room, hidden)
        return self._within[room, hidden]

    def _problems(self, room: float, hidden: float) -> list[PlanarShot] | list[TurningShot]:
        """The shots' problems where rows may ask for a zoom of `room` and dead edges for one of `hidden`."""
        stage, count = self._through.stage, len(self._measurement)
        within, hides = stage, self._hides
        if stage is not None and room < self._row_room:
            within = within_room(stage, room, count)
        if stage is not None and hidden < hides.zoom:
            hides = hiding_in_part(stage, hidden, count, not self._through.turning)
        if self._through.turning:
            assert stage is not None
            assert within is not None
            return turning_shots(self._measurement, self._treatment, stage, within, hides, self._rays)
        glass = Glass.of(within, self._measurement, hides)
        return [PlanarShot(shot, self._treatment, self._pins, self._rays, glass) for shot in shots(self._measurement)]
