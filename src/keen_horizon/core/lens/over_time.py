"""A treatment's optics over the frames of a range: figures that are keyed, and the step that follows or stands."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, as_complex, as_points
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.shutter import RowMotion
from keen_horizon.core.keyframes import figures_over
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.perspective import convex, keystone, turned_camera
from keen_horizon.core.lens.stage import (
    USUAL_FOCAL,
    LensStage,
    View,
    fill_step,
    keep_step,
    kept_area,
    step_between,
)
from keen_horizon.core.treatment.optics import LensSettings, Optics

Floats = NDArray[np.float64]

LEAST_FOLD = 0.3
LOOKED_AT = 9  # frames, where a mean over the range is told


@dataclass(frozen=True)
class OpticsStage:
    """The stages of frames from clip number `first`, or the one of them all; of every frame how its rows moved, where a
    rolling shutter is undone; and the `dead` edge where the source's picture ends.
    """

    first: int
    stages: tuple[LensStage, ...]
    rows: RowMotion | None = None
    dead: DeadEdge | None = None

    def at(self, frame: int) -> LensStage:
        """The stage of a frame of the clip; beyond the range that of its nearest."""
        stage = self.stages[self._index(frame, len(self.stages))]
        if self.rows is None:
            return stage
        return replace(stage, rows=self.rows.whose(self._index(frame, len(self.rows))))

    def points(self, frame: int, points: Floats) -> Floats:
        """Straightened points (N, 2) of a frame in the source."""
        return self.at(frame).points(points)

    def matrix(self, frame: int) -> Floats | None:
        """The map of a frame as a homography; None where it is none."""
        return self.at(frame).matrix

    def straighten(self, frame: int, points: Floats) -> Floats:
        """Source points (N, 2) of a frame in the straightened frame; nowhere where the lens folds over."""
        return self.at(frame).straighten(points)

    def each(self, frames: NDArray[np.intp], points: Floats, done: Callable[[LensStage, Floats], Floats]) -> Floats:
        """What is `done` by each point's own stage: points (P, 2) of `frames` (P,), the result (P, ...)."""
        if len(self.stages) == 1:
            stage = self.stages[0]
            if self.rows is not None:
                stage = replace(stage, rows=self.rows.whose(np.clip(frames - self.first, 0, len(self.rows) - 1)))
            return done(stage, points)
        order = np.argsort(frames, kind="stable")
        parts = np.split(order, np.flatnonzero(np.diff(frames[order])) + 1)
        found = [done(self.at(int(frames[part[0]])), points[part]) for part in parts if len(part)]
        back = np.empty(len(order), np.intp)
        back[order] = np.arange(len(order))
        return np.concatenate(found)[back] if found else done(self.stages[0], points)

    def on_flat(self, frames: NDArray[np.intp], offsets: Complex) -> Complex:
        """Source offsets (E, M) from the middle, of `frames` (E,), on the flat straightened picture, px at the source's
        scale. What rows did is not undone.
        """
        of = np.repeat(frames, offsets.shape[1])
        middle = self.stages[0].size.centre
        straight = replace(self, rows=None).each(
            of, as_points(offsets.ravel() + middle), lambda stage, points: stage.lens.straighten(points, stage.size)
        )
        return np.asarray((as_complex(straight) - middle).reshape(offsets.shape))

    def unprojected(self) -> OpticsStage:
        """The same with the flat picture for what is delivered."""
        stages = tuple(replace(stage, view=replace(stage.view, projection="straight")) for stage in self.stages)
        return replace(self, stages=stages)

    def with_rows(self, rows: RowMotion | None) -> OpticsStage:
        """The same with a rolling shutter undone."""
        return replace(self, rows=rows)

    def with_dead(self, dead: DeadEdge | None) -> OpticsStage:
        """The same with another dead edge."""
        return replace(self, dead=dead)

    def shifted(self, frames: int) -> OpticsStage:
        """The stages that many frames later, under the numbers of these."""
        return self if self.steady else replace(self, first=self.first - frames)

    def with_focal(self, focal: float) -> OpticsStage:
        """The same, with another focal length told, half-diagonals; what is shown where does not change."""
        stages = (replace(stage, view=replace(stage.view, focal=focal)) for stage in self.stages)
        return replace(self, stages=tuple(stages))

    @property
    def steady(self) -> bool:
        """Whether it is the same for every frame."""
        return len(self.stages) == 1 and self.rows is None

    @cached_property
    def smallest_step(self) -> float:
        """The smallest step of any frame, where the middle is enlarged most."""
        return min(stage.step for stage in self.stages)

    @cached_property
    def largest_step(self) -> float:
        """The largest step of any frame."""
        return max(stage.step for stage in self.stages)

    def kept_area(self) -> float:
        """The mean share of the source that the frame shows."""
        looked_at = np.unique(np.linspace(0, len(self.stages) - 1, LOOKED_AT).astype(int))
        return float(np.mean([kept_area(self.stages[i]) for i in looked_at]))

    def _index(self, frame: int, count: int) -> int:
        return min(max(frame - self.first, 0), count - 1)


def plain_stage(size: Size, first: int) -> OpticsStage:
    """The stage that leaves everything where it is."""
    return OpticsStage(first, (LensStage(Lens("division", (0.0,)), size, 1.0),))


# what the lens was found by, and what has to do with light and colours
BESIDE_THE_SHAPE = {"straightedges": (), "world_lines": (), "flat": None, "falloff": None, "fringe": None}


def optics_stage(optics: Optics, size: Size, first: int = 0, last: int = 0) -> OpticsStage | None:
    """The stages of frames `first` ... `last`; None where the optics change nothing.

    Raises LensError where a lens between its keys folds over, or four corners cross.
    """
    if not optics.active:
        return None
    return _stages(
        optics.model_copy(update=BESIDE_THE_SHAPE),
        size,
        first,
        last,
    )


def enlargement(optics: Optics, size: Size, first: int = 0, last: int = 0) -> float:
    """By how much the delivered picture is larger, so that its middle keeps the source's resolution."""
    stage = optics_stage(optics, size, first, last)
    enlarged = optics.lens is not None and optics.lens.enlarge
    return max(1.0, stage.largest_step) if stage is not None and enlarged else 1.0


def lens_of(settings: LensSettings) -> Lens:
    """The lens that settings describe."""
    centre = complex(settings.centre_x, settings.centre_y)
    return Lens(settings.family, settings.coefficients, centre, settings.squeeze, settings.p1, settings.p2)


def lens_settings(lens: Lens) -> LensSettings:
    """A lens as the treatment's document has it; without a bend, the division model's 0."""
    return LensSettings.model_validate(
        {
            "family": lens.family,
            "coefficients": [round(float(k), 7) for k in lens.k] or [0.0],
            "centre_x": round(lens.centre.real, 6),
            "centre_y": round(lens.centre.imag, 6),
            "squeeze": lens.squeeze,
            "p1": lens.p1,
            "p2": lens.p2,
        }
    )


def at_frame(optics: Optics, frame: int) -> Optics:
    """The optics of one frame, without keys."""
    figures = {name: float(values[0]) for name, values in figures_over(optics.keys, np.array([frame])).items()}
    return _with_figures(optics, figures)


@lru_cache(maxsize=16)
def _stages(optics: Optics, size: Size, first: int, last: int) -> OpticsStage:
    figures = figures_over(optics.keys, np.arange(first, last + 1))
    moving = {name: values.round(7) for name, values in figures.items()}
    if all((values == values[0]).all() for values in moving.values()):
        moving = {name: values[:1] for name, values in moving.items()}
    count = max((len(values) for values in moving.values()), default=1)
    looks = [
        _look(_with_figures(optics, {name: float(values[i]) for name, values in moving.items()}), size, first + i)
        for i in range(count)
    ]
    filled = [fill_step(lens, size, view) for lens, view, _ in looks]
    kept = [
        keep_step(lens, size, view) if canvas > 0 else step
        for (lens, view, canvas), step in zip(looks, filled, strict=True)
    ]
    if optics.zoom == "one":
        filled, kept = [min(filled)] * count, [max(kept)] * count
    return OpticsStage(
        first,
        tuple(
            LensStage(lens, size, step_between(low, high, canvas), view)
            for (lens, view, canvas), low, high in zip(looks, filled, kept, strict=True)
        ),
    )


def _look(optics: Optics, size: Size, frame: int) -> tuple[Lens, View, float]:
    """The lens, the view and the canvas of a frame."""
    lens = Lens("division", (0.0,)) if optics.lens is None else lens_of(optics.lens)
    if lens.fold < LEAST_FOLD or (lens.kind.angular and lens.k[0] < 0):
        raise LensError(f"The lens folds over too near its middle at frame {frame}. Change its keys.")
    if not convex(optics.corners):
        raise LensError(f"At frame {frame} the four corners cross each other. Move them less.")
    return lens, view_of(optics, size), optics.lens.canvas if optics.lens else 0.0


def view_of(optics: Optics, size: Size) -> View:
    """How the straightened picture of optics without keys is looked at."""
    focal = focal_of(optics)
    turn = optics.turn
    homography = np.eye(3)
    if turn.roll_deg or turn.pitch_deg or turn.yaw_deg:
        homography = turned_camera(turn.roll_deg, turn.pitch_deg, turn.yaw_deg, focal)
    if any(optics.corners):
        homography = homography @ keystone(optics.corners, size)
    return View(tuple(homography.round(9).ravel().tolist()), optics.projection, focal)


def focal_of(optics: Optics) -> float:
    """The straightened picture's focal length, half-diagonals: a fisheye's own, else as set, else a usual one."""
    if optics.lens is not None:
        lens = lens_of(optics.lens)
        if lens.kind.angular and lens.k[0] > 0:
            return float(1 / np.sqrt(lens.k[0]))
    return optics.focal or USUAL_FOCAL


def knows_angles(optics: Optics) -> bool:
    """Whether the angles behind the lens are told: by a fisheye itself, else by a focal length that is set."""
    lens = optics.lens
    fisheye = lens is not None and FAMILIES[lens.family].angular and lens.coefficients[:1] > (0.0,)
    return optics.focal is not None or fisheye


def _with_figures(optics: Optics, figures: dict[str, float]) -> Optics:
    """The optics with figures in place of keys."""
    lens, corners = optics.lens, list(optics.corners)
    turn = optics.turn.model_copy(update={name: value for name, value in figures.items() if name.endswith("_deg")})
    for name, value in figures.items():
        if name.startswith("corner_"):
            corners[int(name.removeprefix("corner_")) - 1] = value
    if lens is not None:
        coefficients = list(lens.coefficients)
        for name, value in figures.items():
            if name.startswith("coefficient_"):
                index = int(name.removeprefix("coefficient_")) - 1
                coefficients += [0.0] * (index + 1 - len(coefficients))
                coefficients[index] = value
        plain = {name: value for name, value in figures.items() if name in LensSettings.model_fields}
        lens = lens.model_copy(update={"coefficients": tuple(coefficients), **plain})
    return optics.model_copy(update={"lens": lens, "turn": turn, "corners": tuple(corners), "keys": ()})
