"""A dead edge of the source in the straightened picture: the curves that windows must not meet, and straight cuts
inside them for solvers that know straight ones only.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere, is_nowhere_complex
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex, as_points
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.stage import LensStage

BEYOND_PX = 48.0  # of a curve past the frame's border that is kept, so that both meet
CUTS = 64  # of a circle: 0.12 % of its radius inside it at most
BROKEN = complex(NOWHERE, NOWHERE)


@dataclass(frozen=True)
class Cuts:
    """Half-planes Re(conj(normal) p) <= reach of points p, px from the middle of the straightened picture, within which
    nothing is dead: `normals` and `reaches` (N or 1, m).
    """

    normals: Complex
    reaches: Floats

    def of(self, frames: slice) -> Cuts:
        """Those of some frames."""
        return self if len(self.normals) == 1 else Cuts(self.normals[frames], self.reaches[frames])


def dead_borders(glass: LensStage, dead: DeadEdge, of: NDArray[np.intp]) -> Complex:
    """The dead edge as far as it lies in the frame (N, M), px from the middle of the straightened pictures of frames.

    They are those `of` (N,) that the stage's rows know; every curve is broken from what comes before it.
    """
    places, straight = _straight_curves(glass.lens, glass.size, dead)
    if glass.rows is not None:
        glass = replace(glass, rows=glass.rows.whose(np.repeat(of, len(places))))
    every = glass.shown(glass.at_middle_row(np.tile(places, (len(of), 1)), np.tile(straight, (len(of), 1))))
    curves = as_complex(every) - glass.size.centre
    curves[np.tile(is_nowhere(straight), len(of))] = BROKEN
    return np.asarray(curves.reshape(len(of), -1))


def dead_cuts(glasses: list[LensStage], dead: DeadEdge) -> Cuts:
    """Cuts within which the stages' pictures, without rows, have no dead edge; only those that cut the frame."""
    size = glasses[0].size
    normals, reaches = zip(*(_cuts(replace(glass, rows=None), dead) for glass in glasses), strict=True)
    cuts = Cuts(np.stack(normals), np.stack(reaches))
    corners = as_complex(size.corners()) - size.centre
    furthest = (np.conj(cuts.normals)[..., None] * corners).real.max(-1)
    needed = (furthest > cuts.reaches).any(0)
    return Cuts(cuts.normals[:, needed], cuts.reaches[:, needed])


def _cuts(glass: LensStage, dead: DeadEdge) -> tuple[Complex, Floats]:
    """Chords of a circle, and of every straight edge one cut that all of its curve lies beyond."""
    normals, reaches = [], []
    curves = zip(dead.curves(), _whole_curves(glass.lens, glass.size, dead), strict=True)
    for number, (curve, straight) in enumerate(curves):
        shown = as_complex(glass.shown(straight)) - glass.size.centre
        if number == 0 and dead.radius is not None:
            ends = shown[np.linspace(0, len(shown) - 1, CUTS + 1).round().astype(int)]
            chords = np.diff(ends)
            normal = -1j * chords / np.maximum(np.abs(chords), 1e-9)
            known = ~(is_nowhere_complex(ends[1:]) | is_nowhere_complex(ends[:-1]))
            normals.append(np.where(known, normal, 1.0))
            reaches.append(np.where(known, (np.conj(normal) * ends[:-1]).real, np.inf))
        else:
            there = shown[_near(curve, glass.size) & ~is_nowhere_complex(shown)]
            normal = np.exp(1j * dead.sides[number - (dead.radius is not None)][0])
            if len(there) > 1:
                along = there[-1] - there[0]
                normal = -1j * along / max(abs(along), 1e-9)
            normals.append(np.array([normal]))
            reaches.append(np.array([(np.conj(normal) * there).real.min(initial=np.inf)]))
    return np.concatenate(normals), np.concatenate(reaches)


@lru_cache(maxsize=64)
def _whole_curves(lens: Lens, size: Size, dead: DeadEdge) -> tuple[Floats, ...]:
    """Where the lens alone puts the edge's curves, all of them, points (M, 2)."""
    return tuple(lens.straighten(as_points(curve * size.half_diagonal + size.centre), size) for curve in dead.curves())


@lru_cache(maxsize=64)
def _straight_curves(lens: Lens, size: Size, dead: DeadEdge) -> tuple[Floats, Floats]:
    """Source points (M, 2) of the edge near the frame, and where the lens alone puts them; nowhere between curves."""
    parts = []
    for curve, whole in zip(dead.curves(), _whole_curves(lens, size, dead), strict=True):
        places = as_points(curve * size.half_diagonal + size.centre)
        straight = np.where(_near(curve, size)[:, None], whole, NOWHERE)
        parts.append((np.concatenate([places[:1], places]), np.concatenate([[[NOWHERE, NOWHERE]], straight])))
    places, straight = (np.concatenate(part) for part in zip(*parts, strict=True))
    return places, straight


def _near(curve: Complex, size: Size) -> NDArray[np.bool_]:
    """Which points of a curve, half-diagonals, lie in the frame or a little way past its border."""
    px = curve * size.half_diagonal
    return np.asarray((np.abs(px.real) < size.width / 2 + BEYOND_PX) & (np.abs(px.imag) < size.height / 2 + BEYOND_PX))
