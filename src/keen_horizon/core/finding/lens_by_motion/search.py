"""The search for the lens: from several focal lengths, through several families, standing and walking.

A first search with some of the points finds a lens near enough; its curve, angle over radius, is then given to every
family, and each is solved with all of them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.linalg import LinAlgError
from scipy.optimize import least_squares

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.finding.lens_by_motion.camera import RADII, TurningCamera
from keen_horizon.core.finding.lens_by_motion.normal import StraightThings
from keen_horizon.core.finding.lens_by_motion.points import TurnedPoints, spread_over
from keen_horizon.core.finding.lens_by_motion.residuals import State
from keen_horizon.core.finding.lens_by_motion.solving import Solved, left_over, settled, solved
from keen_horizon.core.geometry.similarity import Floats

# what the search begins with: focal lengths, half-diagonals, of 114 to 53 degrees from corner to corner
BEGINNINGS = (("division", 0.8), ("division", 1.8), ("equidistant", 0.65), ("equidistant", 1.2))
FAMILIES_TRIED = (("division", 1), ("division", 2), ("equidistant", 1), ("equisolid", 1), ("stereographic", 1))
SOME_MATCHES, EVERY = 40, 3  # what many lenses are tried with, besides all pairs: rows need the motion between all
FIRST_STEPS, STEPS, WALKING_STEPS, FAMILY_STEPS, LAST_STEPS = 6, 8, 14, 6, 12
# of what a standing camera leaves, a walking one leaves less where it walks: at most 0.81, else 0.92 (twenty films)
WALKS = 0.84
HOPELESS = 0.2  # of the focal length: some of the points leave it open by three times as much as all of them
TRIALS = len(BEGINNINGS) + len(FAMILIES_TRIED) + 3


@dataclass(frozen=True)
class Found:
    """The best lens with what it leaves, and whether the camera walked."""

    solved: Solved
    walks: bool


def searched(
    points: TurnedPoints,
    readout: float = 0.0,
    *,
    near: TurningCamera | None = None,
    lines: StraightThings | None = None,
    between: Callable[[], None] = lambda: None,
) -> Found:
    """The lens that the points tell, the rows read in some `readout` at first; `near` may be a lens to begin with.

    `between` is called some `TRIALS` times on the way. Raises LinAlgError where the points tell nothing.
    """
    some = _some(points)
    begun = _begun(some, readout, near, between)
    between()
    standing = solved(some, begun.state, walks=False, steps=STEPS, lines=lines)
    if standing.focal_spread > HOPELESS:  # the camera hardly turned
        return Found(standing, walks=False)
    between()
    walking = solved(some, standing.state, walks=True, steps=WALKING_STEPS, lines=lines)
    walks = left_over(some, walking) < WALKS * left_over(some, standing)
    nearest = walking.state if walks else standing.state
    tried = []
    for kind in FAMILIES_TRIED:
        between()
        tried.append(_in_family(some, nearest, kind, walks=walks, lines=lines))
    _, best = min(tried, key=lambda scored: scored[0])
    between()
    whole = replace(settled(points, State.still(points, best.camera), 3), nearness=best.nearness)
    return Found(solved(points, whole, walks=walks, steps=LAST_STEPS, lines=lines), walks)


def refined(points: TurnedPoints, found: Found, lines: StraightThings) -> Found:
    """What was found, with straight things that agree with it."""
    better = solved(points, found.solved.state, walks=found.walks, steps=LAST_STEPS, lines=lines)
    return Found(better, found.walks)


def _some(points: TurnedPoints) -> TurnedPoints:
    """The pairs and some of the matches, with some of their points: to try many lenses with."""
    pairs, apart = np.split(np.arange(len(points.frames)), [points.pairs])
    return points.part(np.r_[pairs, spread_over(apart, SOME_MATCHES)], EVERY)


def _begun(some: TurnedPoints, readout: float, near: TurningCamera | None, between: Callable[[], None]) -> Solved:
    """A lens to begin with, and what it makes of the points."""
    cameras = [
        TurningCamera.standing(family, np.array([focal**-2.0 if FAMILIES[family].angular else 0.0]), focal)
        for family, focal in BEGINNINGS
    ]
    if near is not None:
        cameras.append(near)
    found = []
    for camera in cameras:
        between()
        state = settled(some, State.still(some, replace(camera, readout=readout)), 3)
        try:
            found.append(solved(some, state, walks=False, steps=FIRST_STEPS))
        except LinAlgError:
            continue
    if not found:
        raise LinAlgError("nothing but errors was followed")
    return min(found, key=lambda each: left_over(some, each))


def _in_family(
    some: TurnedPoints, near: State, kind: tuple[str, int], *, walks: bool, lines: StraightThings | None
) -> tuple[float, State]:
    """The best lens of a family near a state, after what it leaves and how many figures it has (Schwarz 1978)."""
    family, count = kind
    state = replace(near, camera=_like(near.camera, family, count))
    found = solved(some, state, walks=walks, steps=FAMILY_STEPS, lines=lines)
    camera = found.state.camera
    cost = left_over(some, found) + (lines.cost(camera) if lines is not None else 0.0)
    return cost + count * float(np.log(some.there.sum())) / 2, found.state


def _like(camera: TurningCamera, family: str, count: int) -> TurningCamera:
    """The lens of a family that sees every radius at nearly the same angle."""
    kind = FAMILIES[family]
    inside = RADII <= 1
    wanted = camera.angles[inside]

    def lens(figures: Floats) -> TurningCamera:
        if kind.angular:
            return replace(camera, family=family, k=np.exp(-2 * figures))
        return replace(camera, family=family, k=figures[1:], log_focal=float(figures[0]))

    start = np.r_[np.log(camera.focal), np.zeros(0 if kind.angular else count)]
    found = least_squares(lambda figures: lens(figures).angles[inside] - wanted, start)
    return lens(found.x)
