"""A lens from straightedges: points drawn along things that are straight in the world, and what is said of them.

All families that the lines can tell are searched for (see plumb_lines); the family is chosen by the Bayesian
information criterion (Schwarz 1978).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.plumb_lines import Candidate, LineProblem, Solved

Floats = NDArray[np.float64]

CANDIDATES = (
    ("division", 1), ("division", 2), ("division", 3), ("equidistant", 1), ("equisolid", 1),
    ("polynomial", 2), ("inverse", 2),
)  # fmt: skip
CANNOT_FIT = 2.0
ROUGH = 1.3
USUAL_CENTRE = 2.2  # standard deviations; further out, one line may be what is wrong
FAR_BEHIND = 40.0  # a score so much above the best one is not made good by another centre
MOST_BLAMED = 12  # lines among which one that disagrees is looked for, each time leaving one out


@dataclass(frozen=True)
class LensFit:
    """A lens and how well lines are straight with it.

    `residuals` and `bends` are px of the source, one figure a line: what is left, and how far it was bent. `ratio`
    is the residual over the noise of setting points: about 1 when the lens is right. `odd` is a line that
    disagrees with the rest, if one does; `better` a family that would fit where this one cannot.
    """

    lens: Lens
    residuals: tuple[float, ...]
    bends: tuple[float, ...]
    ratio: float
    odd: int | None
    better: str | None


def fit_lens(
    lines: list[Floats], size: Size, family: str | None = None, squeeze: float = 1.0, blame: bool = True
) -> LensFit:
    """The lens that straightens `lines`, each (P, 2) with P >= 3, in display pixels.

    `family` fixes the family; `blame` looks for a line that disagrees. Never leaves lines less straight, all
    in all, than they are. Raises LensError.
    """
    problem = LineProblem(lines, size, squeeze)
    solved = _solved(problem, family, {})
    plain, best, chosen = _chosen(solved, family)
    ratio, odd = problem.ratio(chosen), None
    if ratio <= ROUGH:
        chosen = problem.centred([chosen])[0]
    else:
        aside = _centred(problem, solved, family)
        centred = problem.ratio(aside[2]) <= ROUGH
        if not centred or aside[2].eccentric > USUAL_CENTRE:
            # points set so roughly, or on what is not quite straight, tell less than they should
            rough = LineProblem(lines, size, squeeze, ratio)
            again = _solved(rough, family, {key: found.parameters for key, found in solved.items()})
            plain, best, chosen = _chosen(again, family)
            ratio, chosen = rough.ratio(chosen), rough.centred([chosen])[0]
            odd = rough.odd_one(chosen) if blame and len(lines) <= MOST_BLAMED else None
        if centred and odd is None:  # it was only the centre
            plain, best, chosen = aside
            ratio = problem.ratio(chosen)
    fits_better = chosen.family != best.family and problem.ratio(best) < ratio / 1.5
    better = best.family if ratio > CANNOT_FIT and fits_better else None
    return LensFit(problem.lens(chosen), problem.per_line(chosen), problem.per_line(plain), ratio, odd, better)


def _solved(problem: LineProblem, family: str | None, starts: dict[Candidate, Floats]) -> dict[Candidate, Solved]:
    """Every candidate's best lens, and those of the family asked for, from where each ended before."""
    asked = [] if family is None else [(family, count) for count in range(len(FAMILIES[family].names) + 1)]
    wanted = [("division", 0), *(each for each in dict.fromkeys([*CANDIDATES, *asked]) if problem.affords(each[1]))]
    return dict(zip(wanted, problem.solve(wanted, starts=starts), strict=True))


def _chosen(solved: dict[Candidate, Solved], family: str | None) -> tuple[Solved, Solved, Solved]:
    """No lens at all, the best one of any family, and the best one of the family asked for."""
    plain = solved["division", 0]
    best = min(
        (found for key, found in solved.items() if key in CANDIDATES or key == ("division", 0)), key=lambda s: s.score
    )
    if family is None:
        return plain, best, best
    own = [found for (name, _), found in solved.items() if name == family]
    return plain, best, min(own, key=lambda s: s.score)


def _centred(
    problem: LineProblem, solved: dict[Candidate, Solved], family: str | None
) -> tuple[Solved, Solved, Solved]:
    """What is chosen where the centre is free, from the lenses that came near the best."""
    enough = min(found.score for found in solved.values()) + FAR_BEHIND
    near = [key for key, found in solved.items() if found.score <= enough or key[0] == family or not key[1]]
    return _chosen(dict(zip(near, problem.centred([solved[key] for key in near]), strict=True)), family)


def quick_lens(lines: list[Floats], size: Size) -> Lens:
    """A division lens of two coefficients, centred, without choosing: for many tries. Raises LensError."""
    problem = LineProblem(lines, size, 1.0)
    return problem.lens(problem.solve([("division", 2)])[0])


def judged(lens: Lens, lines: list[Floats], size: Size) -> LensFit:
    """How straight lines are with a lens that is given."""
    problem = LineProblem(lines, size, lens.squeeze)
    given = problem.given(lens)
    plain = problem.solve([("division", 0)])[0]
    return LensFit(lens, problem.per_line(given), problem.per_line(plain), problem.ratio(given), None, None)
