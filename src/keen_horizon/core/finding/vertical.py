"""Where up is, for a camera that sees all around: one direction for a whole shot, since its turns are known.

Edges lie in planes through the camera. Those of uprights hold the vertical, so their normals are square to it; the
horizon is level all around, so rays to it are. Where an edge lies is told far more exactly than which way it goes.
The directions on which most edges agree, in either way, are looked for among those that two edges make (Fischler &
Bolles 1981), and refined by least squares under Tukey's biweight, more and more narrowly: quays, coasts and hills lie
close to the horizon, and there may be more of them. None is as thin, so the direction counts that most edges agree on
closely. Its doubt is told by a jackknife of blocks of frames (Quenouille 1956).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.motion.measurement import Uprights

Floats = NDArray[np.float64]

TRIALS, LOOKED_AT = 1500, 3000
FURTHEST_DEG = 60.0  # of up from where the camera's own top points on average
SLANT_RAD, PLACE_RAD = np.radians(1.0), np.radians(0.4)  # spreads of which way an edge goes, and of where it lies
ALONG = np.cos(np.radians(6.0))  # of a normal and up: an edge that may be of the horizon
NARROWER = (0.35, 0.2, 0.12)  # of those spreads, one refinement after the other; wider, hills draw a horizon aside
ROUNDS = 6
BLOCKS = 8
LEAST_SHARE, LEAST_COUNT = 0.05, 60  # of the edges that must agree, and how many
STANDING_OUT = 15.0  # times as many as agree on a usual direction: a harbour has 34 to 57, photographs 6 to 11
SURE_DEG = 0.5  # of doubt, at most
COAST_DEG = 0.1  # by which coasts and hills move a horizon, the same in all blocks: so far off was a painted harbour
SEED = 7
STARTS, APART = 8, np.cos(np.radians(0.3))  # how many directions are refined, and how far they are apart at least
CLOSELY = 0.25  # of those spreads: a painted harbour's horizon is that thin
LEFT_OPEN = 1e-4  # of what a drawn line tells: it decides nothing but what all of them leave open


@dataclass(frozen=True)
class Vertical:
    """`up` (3,), a unit ray of the reference, `doubt` deg, and whether that is enough to go by; by the `horizon` rather
    than by uprights; `drawn` by an editor.
    """

    up: Floats
    doubt: float
    enough: bool
    horizon: bool = False
    drawn: bool = False


UNKNOWN = Vertical(np.array([0.0, -1.0, 0.0]), 90.0, False)


@dataclass(frozen=True)
class _Edges:
    """Edges of all frames in the reference: rays to them and normals of their planes (K, 3)."""

    rays: Floats
    normals: Floats

    def __len__(self) -> int:
        return len(self.rays)

    def part(self, rows: NDArray[np.intp] | NDArray[np.bool_]) -> _Edges:
        return _Edges(self.rays[rows], self.normals[rows])

    def errors(self, up: Floats) -> tuple[Floats, Floats]:
        """How far edges (K,) are from upright, and from the horizon if they go that way, in spreads."""
        height = np.abs(self.normals @ up)
        upright = np.arcsin(np.clip(height, 0, 1)) / SLANT_RAD
        level = np.where(height > ALONG, np.abs(self.rays @ up) / PLACE_RAD, np.inf)
        return upright, level


def find_vertical(uprights: Uprights, rotations: Rotation) -> Vertical:
    """Up, from edges seen in frames of a shot whose camera stood at `rotations` (N,), reference_from_camera."""
    if len(uprights.frames) < LEAST_COUNT:
        return UNKNOWN
    there = rotations[uprights.frames]
    edges = _Edges(there.apply(uprights.rays), there.apply(uprights.normals))
    top = rotations.apply([0.0, -1.0, 0.0]).mean(0)
    top /= max(1e-9, float(np.linalg.norm(top)))
    starts, usual = _best(edges, top)
    if not starts:
        return UNKNOWN
    up = max((_refined(edges, start) for start in starts), key=lambda up: _score(edges, up, CLOSELY))
    upright, level = edges.errors(up)
    agreeing = np.minimum(upright, level) < TUKEY_REACH
    blocks = np.minimum(uprights.frames * BLOCKS // max(1, len(rotations)), BLOCKS - 1)
    left_out = [_refined(edges.part(blocks != block), up) for block in range(BLOCKS) if (blocks == block).any()]
    doubt = float(np.hypot(_jackknifed(np.array(left_out), up), COAST_DEG))
    enough = bool(
        agreeing.sum() >= max(LEAST_COUNT, LEAST_SHARE * len(edges))
        and _score(edges, up) >= STANDING_OUT * usual
        and doubt <= SURE_DEG
    )
    told = [float(tukey(errors, 1.0).sum()) for errors in (upright, np.minimum(level, 1e3))]
    return Vertical(up, doubt, enough, told[1] > told[0])


def drawn_vertical(lines: Floats, usual: Floats) -> Vertical:
    """Up, from the rays (L, 2, 3) of the reference to the ends of lines drawn along the horizon or along uprights.

    Which of both a line is, `usual` (3,) tells: about where up is. What lines leave open, as one upright does, is as
    there.
    """
    usual = usual / max(1e-9, float(np.linalg.norm(usual)))
    normals = np.cross(lines[:, 0], lines[:, 1])
    normals /= np.maximum(1e-9, np.linalg.norm(normals, axis=1, keepdims=True))
    level = np.abs(normals @ usual) > np.sqrt(0.5)
    square = np.concatenate([normals[~level], lines[level].reshape(-1, 3)])
    spread = square.T @ square + LEFT_OPEN * (np.eye(3) - np.outer(usual, usual))
    up = np.linalg.eigh(spread)[1][:, 0]
    return Vertical(up * np.sign(up @ usual), 0.0, True, bool(level.any()), drawn=True)


def _score(edges: _Edges, up: Floats, closely: float = 1.0) -> float:
    """How many edges agree with a direction, counted softly; the horizon's for more, as they tell more."""
    upright, level = (errors / closely for errors in edges.errors(up))
    return float((np.exp(-(upright**2) / 2) + SLANT_RAD / PLACE_RAD * np.exp(-(np.minimum(level, 1e3) ** 2) / 2)).sum())


def _best(edges: _Edges, top: Floats) -> tuple[list[Floats], float]:
    """The directions near `top` on which most edges agree, apart from each other; how many agree on a usual one."""
    random = np.random.default_rng(SEED)
    chosen = edges if len(edges) <= LOOKED_AT else edges.part(random.choice(len(edges), LOOKED_AT, replace=False))
    one, other = random.integers(len(chosen), size=(2, TRIALS))
    crossings = []
    for planes in (chosen.normals, chosen.rays):
        crossing = np.cross(planes[one], planes[other])
        size = np.linalg.norm(crossing, axis=1)
        crossings.append(crossing[size > 0.2] / size[size > 0.2, None])
    told = np.concatenate(crossings)
    told *= np.sign(told @ top)[:, None]
    told = told[told @ top > np.cos(np.radians(FURTHEST_DEG))]
    if not len(told):
        return [], 0.0
    scores = np.array([_score(chosen, up) for up in told])
    best: list[Floats] = []
    for up in told[np.argsort(-scores)]:
        if len(best) < STARTS and all(up @ other < APART for other in best):
            best.append(up)
    return best, float(np.median(scores)) * len(edges) / len(chosen)


def _refined(edges: _Edges, up: Floats) -> Floats:
    for narrower in NARROWER:
        for _ in range(ROUNDS):
            upright, level = (np.minimum(errors, 1e3) / narrower for errors in edges.errors(up))
            slanted, placed = tukey(upright, 1.0) / SLANT_RAD**2, tukey(level, 1.0) / PLACE_RAD**2
            spread = (edges.normals * slanted[:, None]).T @ edges.normals
            spread += (edges.rays * placed[:, None]).T @ edges.rays
            found = np.linalg.eigh(spread)[1][:, 0]
            found = found * np.sign(found @ up)
            settled = np.abs(found - up).max() < 1e-9
            up = found
            if settled:
                break
    return up


def _jackknifed(left_out: Floats, up: Floats) -> float:
    """The doubt, deg, of a direction by what it is without one block at a time."""
    count = len(left_out)
    if count < 2:
        return 90.0
    apart = ((left_out - left_out.mean(0)) ** 2).sum()
    bias = float(np.linalg.norm(left_out.mean(0) - up))
    return float(np.degrees(np.sqrt((count - 1) / count * apart) + bias))
