"""Where up is, for a camera that sees all around: one direction for a whole shot, since its turns are known.

Edges lie in planes through the camera. Those of uprights hold the vertical, so their normals are square to it; the
horizon's own normal is the vertical. The direction on which most normals agree, in either way, is looked for among
those that two edges make (Fischler & Bolles 1981), and refined by least squares under Tukey's biweight. Its doubt is
told by a jackknife of blocks of frames (Quenouille 1956).
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
SPREAD_RAD = np.radians(0.4)  # of an edge's normal
ROUNDS = 12
BLOCKS = 8
LEAST_SHARE, LEAST_COUNT = 0.12, 60  # of the edges that must agree, and how many
STANDING_OUT = 7.0  # times as many as agree on a usual direction: a painted town has 15, six photographs at random 5
SURE_DEG = 0.5  # of doubt, at most
SEED = 7


@dataclass(frozen=True)
class Vertical:
    """`up` (3,), a unit ray of the reference, `doubt` deg, and whether that is enough to go by; by the `horizon` rather
    than by uprights.
    """

    up: Floats
    doubt: float
    enough: bool
    horizon: bool = False


UNKNOWN = Vertical(np.array([0.0, -1.0, 0.0]), 90.0, False)


def find_vertical(uprights: Uprights, rotations: Rotation) -> Vertical:
    """Up, from edges seen in frames of a shot whose camera stood at `rotations` (N,), reference_from_camera."""
    if len(uprights.frames) < LEAST_COUNT:
        return UNKNOWN
    normals = rotations[uprights.frames].apply(uprights.normals)
    top = rotations.apply([0.0, -1.0, 0.0]).mean(0)
    top /= max(1e-9, float(np.linalg.norm(top)))
    start, usual = _best(normals, top)
    if start is None:
        return UNKNOWN
    up = _refined(normals, start)
    across, along = _errors(normals, up)
    agreeing = np.minimum(across, along) < TUKEY_REACH * SPREAD_RAD
    by_horizon = (along < across) & agreeing
    blocks = np.minimum(uprights.frames * BLOCKS // max(1, len(rotations)), BLOCKS - 1)
    left_out = [_refined(normals[blocks != block], up) for block in range(BLOCKS) if (blocks == block).any()]
    doubt = _jackknifed(np.array(left_out), up)
    enough = bool(
        agreeing.sum() >= max(LEAST_COUNT, LEAST_SHARE * len(normals))
        and _score(normals, up[None])[0] >= STANDING_OUT * usual
        and doubt <= SURE_DEG
    )
    return Vertical(up, doubt, enough, bool(by_horizon.sum() > agreeing.sum() / 2))


def _errors(normals: Floats, up: Floats) -> tuple[Floats, Floats]:
    """How far normals (K, 3) are from square to a direction, and from lying along it, rad."""
    height = np.clip(np.abs(normals @ up), 0, 1)
    return np.arcsin(height), np.arccos(height)


def _score(normals: Floats, candidates: Floats) -> Floats:
    """How many normals agree with each of some directions (C, 3), counted softly."""
    height = np.abs(normals @ candidates.T)
    across = np.exp(-((height / SPREAD_RAD) ** 2) / 2)
    along = np.exp(-((1 - np.minimum(height, 1)) / SPREAD_RAD**2))
    return np.asarray((across + along).sum(0))


def _best(normals: Floats, top: Floats) -> tuple[Floats | None, float]:
    """The direction near `top` on which most normals agree, and how many agree on a usual one."""
    random = np.random.default_rng(SEED)
    chosen = normals if len(normals) <= LOOKED_AT else normals[random.choice(len(normals), LOOKED_AT, replace=False)]
    one, other = random.integers(len(chosen), size=(2, TRIALS))
    crossing = np.cross(chosen[one], chosen[other])
    size = np.linalg.norm(crossing, axis=1)
    told = np.concatenate([crossing[size > 0.05] / size[size > 0.05, None], chosen[one[: TRIALS // 4]]])
    told *= np.sign(told @ top)[:, None]
    told = told[told @ top > np.cos(np.radians(FURTHEST_DEG))]
    if not len(told):
        return None, 0.0
    scores = _score(chosen, told)
    return told[scores.argmax()], float(np.median(scores)) * len(normals) / len(chosen)


def _refined(normals: Floats, up: Floats) -> Floats:
    for _ in range(ROUNDS):
        across, along = _errors(normals, up)
        upright = tukey(across, SPREAD_RAD)
        level = tukey(along, SPREAD_RAD)
        spread = (normals * (upright - level)[:, None]).T @ normals
        found = np.linalg.eigh(spread)[1][:, 0]
        found = found * np.sign(found @ up)
        if np.abs(found - up).max() < 1e-9:
            break
        up = found
    return up


def _jackknifed(left_out: Floats, up: Floats) -> float:
    """The doubt, deg, of a direction by what it is without one block at a time."""
    count = len(left_out)
    if count < 2:
        return 90.0
    apart = ((left_out - left_out.mean(0)) ** 2).sum()
    bias = float(np.linalg.norm(left_out.mean(0) - up))
    return float(np.degrees(np.sqrt((count - 1) / count * apart) + bias))
