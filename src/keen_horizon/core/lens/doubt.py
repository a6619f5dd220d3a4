"""How far straight things elsewhere may stay bent with a lens that straightedges told, and where one more tells most.

The lens's figures are as uncertain as the inverse of their normal matrix says, the priors among it (Gauss; see
Nocedal & Wright 2006, ch. 10); how a straight thing bends as they move tells what that comes to in the picture.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import as_complex
from keen_horizon.core.lens.lens import NO_LENS, Lens
from keen_horizon.core.lens.plumb_lines import LineProblem
from keen_horizon.core.lens.straightedges import CANNOT_FIT, LensFit, judged

Floats = NDArray[np.float64]

INSET = 0.03  # of the width
ALONG = (0.1, 0.5, 0.9)  # shares of each side, where straight things may begin and end
POINTS = 9
ASKS_PX = 0.5  # at 1920 wide: from so much on another line is asked for
SHORTEST = 0.4  # of the width
STEEPEST = 1.55  # radians from the axis, as if the focal length were a half-diagonal
RADII = np.linspace(0, 1.2, 400)  # half-diagonals


@dataclass(frozen=True)
class Doubt:
    """`px` RMS of the source that straight things elsewhere may stay bent by; where that is much, `line` (P, 2), along
    which one more straightedge would tell most.
    """

    px: float
    line: Floats | None


def doubt(fit: LensFit, lines: list[Floats], size: Size) -> Doubt | None:
    """The doubt of a lens by `lines`, each (P, 2) with P >= 3; None where it does not fit them. Raises LensError."""
    if fit.ratio > CANNOT_FIT:
        return None
    lens = fit.lens
    bent = lens if lens.k else Lens("division", (0.0,), lens.centre, lens.squeeze)
    drawn = LineProblem(lines, size, lens.squeeze, max(1.0, fit.ratio))
    covariance = drawn.covariance(bent)
    straight, strays = strays_of_straight_things(bent, covariance, size)
    px = float(np.sqrt(strays.mean()))
    return Doubt(px, straight[int(strays.argmax())] if px > ASKS_PX * size.width / 1920 else None)


def strays_of_straight_things(lens: Lens, covariance: Floats, size: Size) -> tuple[list[Floats], Floats]:
    """Straight things, (P, 2) each, all over the picture, and the mean square, px, that each may stay bent by with a
    lens whose coefficients and centre are so uncertain (K + 2, K + 2). Raises LensError.
    """
    straight = _straight_things(lens, size)
    slopes = LineProblem(straight, size, lens.squeeze).slopes(lens)
    return straight, np.einsum("ilp,ij,jlp->lp", slopes, covariance, slopes).mean(1)


def bent_px(lens: Lens, size: Size) -> float:
    """How far a lens bends straight things all over the picture, RMS px of the source."""
    return float(np.sqrt(np.mean(np.square(judged(NO_LENS, _straight_things(lens, size), size).residuals))))


def _straight_things(lens: Lens, size: Size) -> list[Floats]:
    """Points (P, 2), evenly spread as the lens sees them, along straight things that cross the picture."""
    inset = INSET * size.width
    room = np.array([size.width - 1 - 2 * inset, size.height - 1 - 2 * inset])
    ends = inset + np.array([place for a in ALONG for place in ((a, 0), (a, 1), (0, a), (1, a))]) * room
    angles = np.arctan(lens.straightened_radius(RADII))
    known = np.flatnonzero((angles < STEEPEST) & (np.diff(angles, prepend=-1.0) > 0))
    offsets = lens.offsets(as_complex(ends), size)
    radii = np.abs(offsets)
    slant = np.interp(radii, RADII[known], angles[known])
    rays = np.column_stack([offsets.real / radii * np.sin(slant), offsets.imag / radii * np.sin(slant), np.cos(slant)])
    first, last = np.array(list(combinations(range(len(ends)), 2))).T
    apart = np.hypot(*(ends[last] - ends[first]).T) >= SHORTEST * size.width
    first, last = rays[first[apart], None], rays[last[apart], None]
    x, y, depth = np.moveaxis(first + np.linspace(0, 1, POINTS)[:, None] * (last - first), -1, 0)
    across = np.hypot(x, y)
    radius = np.interp(np.arctan2(across, depth), angles[known], RADII[known])
    places = lens.places((x + 1j * y) * (radius / np.maximum(across, 1e-12)), size)
    inside = ((places >= 0) & (places <= (size.width - 1, size.height - 1))).all((1, 2))
    return list(places[inside])
