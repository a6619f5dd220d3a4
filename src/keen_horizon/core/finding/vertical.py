"""Where up is, for a camera that sees all around: one direction for a whole shot, since its turns are known.

Edges lie in planes through the camera. Those of uprights hold the vertical, so their normals are square to it; the
horizon is level all around, so rays to it are. The direction on which edges agree at most headings, in either way, is
looked for among those that two edges make (Fischler & Bolles 1981): quays, coasts and hills lie close to the horizon
and are seen more often and more sharply, but only the horizon is level wherever one looks. It is refined by least
squares under Tukey's biweight, every heading counting by the share of its edges that agree, for the same things are
seen in all frames. Its doubt is told by a jackknife of sectors (Quenouille 1956): all frames see the same walls and
trees lean, but other ones elsewhere.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.motion.measurement import Uprights

Floats = NDArray[np.float64]

TRIALS, LOOKED_AT = 3000, 3000  # directions of either kind, and edges that they are tried on
AT_ONCE = 250  # directions tried together
FURTHEST_DEG = 60.0  # of up from where the camera's own top points on average
SLANT_RAD, PLACE_RAD = np.radians(0.5), np.radians(0.4)  # spreads of which way an edge goes, and of where it lies
ALONG = np.cos(np.radians(6.0))  # of a normal and up: an edge that may be of the horizon
LYING = 0.5  # the same for the camera's own top, which may be 60 degrees aside
CLOSELY = np.array([0.5, 0.25])  # of those spreads: edges that agree on a direction
NARROWER = ((1.0, 0.2), (0.6, 0.12), (0.3, 0.12))  # of those spreads, one refinement after the other
HEADINGS, ENOUGH_THERE = 90, 2  # parts all around, and how many edges make one agree
ROUNDS = 6
SECTORS = 12
APART = np.cos(np.radians(6.0))  # of a direction and another one
LEAST_SHARE, LEAST_COUNT = 0.05, 60  # of the edges that must agree, and how many
STANDING_OUT = 1.25  # times as many headings as agree on another direction: painted streets 1.3 to 3.2, bars and
# harbours 2.7 and more, photographs and noise 1.1 at most
SURE_DEG = 0.25  # of doubt, at most: bars that lean by 2 degrees each leave 0.4 and more
COAST_DEG = 0.1  # by which coasts and hills move a horizon, the same in all sectors: so far off was a painted harbour
SEED = 7
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
    """Edges of all frames in the reference: rays to them and normals of their planes (K, 3), and the `headings` (K,),
    as parts of a circle, that they are seen at.
    """

    rays: Floats
    normals: Floats
    headings: NDArray[np.intp]

    @staticmethod
    def around(rays: Floats, normals: Floats, top: Floats) -> _Edges:
        """Edges with their headings around `top`."""
        aside = np.cross(top, np.eye(3)[np.abs(top).argmin()])
        across, along = rays @ aside, rays @ np.cross(top, aside)
        turn = np.arctan2(across, along) / (2 * np.pi) + 0.5
        return _Edges(rays, normals, np.minimum((turn * HEADINGS).astype(np.intp), HEADINGS - 1))

    def __len__(self) -> int:
        return len(self.rays)

    def part(self, rows: NDArray[np.intp] | NDArray[np.bool_]) -> _Edges:
        return _Edges(self.rays[rows], self.normals[rows], self.headings[rows])

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
    top = rotations.apply([0.0, -1.0, 0.0]).mean(0)
    top /= max(1e-9, float(np.linalg.norm(top)))
    edges = _Edges.around(there.apply(uprights.rays), there.apply(uprights.normals), top)
    told = _told(edges, top)
    if not len(told):
        return UNKNOWN
    agreeing_at = _headings(edges, told)
    start = told[agreeing_at.argmax()]
    other = float(agreeing_at[told @ start < APART].max(initial=0.0))
    up = _refined(edges, start)
    upright, level = edges.errors(up)
    agreeing = np.minimum(upright, level) < TUKEY_REACH
    by_uprights, by_horizon = (float(tukey(np.minimum(errors, 1e3), 1.0).sum()) for errors in (upright, level))
    horizon = by_horizon > by_uprights
    doubt = float(np.hypot(_doubt(edges, up), COAST_DEG if horizon else 0.0))
    enough = bool(
        agreeing.sum() >= max(LEAST_COUNT, LEAST_SHARE * len(edges))
        and agreeing_at.max() >= STANDING_OUT * other
        and doubt <= SURE_DEG
    )
    return Vertical(up, doubt, enough, horizon)


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


def _told(edges: _Edges, top: Floats) -> Floats:
    """Directions (K, 3) near `top` that two edges make, as uprights or as parts of the horizon."""
    random = np.random.default_rng(SEED)
    crossings = []
    lying = np.abs(edges.normals @ top) > LYING
    for planes in (edges.normals[~lying], edges.rays[lying]):
        if not len(planes):
            continue
        one, other = random.integers(len(planes), size=(2, TRIALS))
        crossing = np.cross(planes[one], planes[other])
        size = np.linalg.norm(crossing, axis=1)
        crossings.append(crossing[size > 0.2] / size[size > 0.2, None])
    told = np.concatenate(crossings) if crossings else np.zeros((0, 3))
    told *= np.where(told @ top < 0, -1.0, 1.0)[:, None]
    return np.asarray(told[told @ top > np.cos(np.radians(FURTHEST_DEG))])


def _headings(edges: _Edges, told: Floats) -> Floats:
    """At how many headings edges agree closely on each direction (K, 3)."""
    random = np.random.default_rng(SEED)
    if len(edges) > LOOKED_AT:
        edges = edges.part(random.choice(len(edges), LOOKED_AT, replace=False))
    seen_at = (edges.headings[:, None] == np.arange(HEADINGS)).astype(np.float32)
    slant, place = np.sin(CLOSELY * (SLANT_RAD, PLACE_RAD))
    counts = []
    for some in np.array_split(told, max(1, len(told) // AT_ONCE)):
        height = np.abs(edges.normals @ some.T)
        level = (height > ALONG) & (np.abs(edges.rays @ some.T) < place)
        there = [agreeing.T.astype(np.float32) @ seen_at for agreeing in (height < slant, level)]
        counts.append(np.sum([np.minimum(count / ENOUGH_THERE, 1.0).sum(1) for count in there], axis=0))
    return np.concatenate(counts).astype(np.float64)


def _refined(edges: _Edges, up: Floats) -> Floats:
    for spreads in NARROWER:
        for _ in range(ROUNDS):
            errors = zip(edges.errors(up), spreads, strict=True)
            upright, level = (np.minimum(far, 1e3) / spread for far, spread in errors)
            slanted = _evenly(tukey(upright, 1.0), edges.headings) / SLANT_RAD**2
            placed = _evenly(tukey(level, 1.0), edges.headings) / PLACE_RAD**2
            spread = (edges.normals * slanted[:, None]).T @ edges.normals
            spread += (edges.rays * placed[:, None]).T @ edges.rays
            found = np.linalg.eigh(spread)[1][:, 0]
            found = found * np.sign(found @ up)
            settled = np.abs(found - up).max() < 1e-9
            up = found
            if settled:
                break
    return up


def _evenly(weights: Floats, headings: NDArray[np.intp]) -> Floats:
    """Weights of edges (K,), every heading's as much as the share of its edges that agree."""
    there = np.bincount(headings, minlength=HEADINGS)
    return np.asarray(weights / there[headings])


def _doubt(edges: _Edges, up: Floats) -> float:
    """The doubt, deg, of a direction by what it is without one sector at a time."""
    sectors = edges.headings * SECTORS // HEADINGS
    left_out = np.array([_refined(edges.part(sectors != sector), up) for sector in np.unique(sectors)])
    count = len(left_out)
    if count < 2:
        return 90.0
    apart = ((left_out - left_out.mean(0)) ** 2).sum()
    bias = float(np.linalg.norm(left_out.mean(0) - up))
    return float(np.degrees(np.sqrt((count - 1) / count * apart) + bias))
