"""What the path is drawn to: an intent with its figures, spread over the frames of a shot.

`strength` is the share of the full correction that is made at each frame: the figure the editor set or
keyframed, less what eased stretches give up. The window is held to its limits after that share, so an
eased frame no longer decides the zoom, and the frames around it gain.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linprog

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.keyframes import keyed
from keen_horizon.core.path.program import Wish, as_real
from keen_horizon.core.path.window import centred_corners, containment_rows
from keen_horizon.core.treatment.motion import Ease, Motion

Floats = NDArray[np.float64]

HOLD_RESPONSE_S = 1.5
FIRST_FRAMES, MORE_FRAMES = 60, 60


def wish_for(
    poses: Similarities,
    motion: Motion,
    freedom: tuple[str, ...],
    size: Size,
    first_frame: int,
    rate: float,
    upright: Similarities | None = None,
) -> Wish:
    """The wish of an intent for centred `poses` (N,) of frames from clip number `first_frame`.

    `upright` (N,) is what a level path that also glides is drawn to.
    """
    pull = pull_of(motion, first_frame, len(poses), rate)
    if upright is not None:
        return Wish(upright, pull.first, pull.third, pull.strength, freedom)
    if motion.intent == "level":
        level = Similarities.identity(len(poses))
        return Wish(level, np.zeros(len(poses)), np.zeros(len(poses)), pull.strength, freedom)
    target = hold_target(poses, pull.strength, size) if pull.hold else poses
    return Wish(target, pull.first, pull.third, pull.strength, freedom)


@dataclass(frozen=True)
class Pull:
    """How strongly a path is smoothed: weights `first` and `third` (N,) of its differences, and the `strength` (N,)
    of the correction; `hold` tells whether it is drawn to one pose.
    """

    first: Floats
    third: Floats
    strength: Floats
    hold: bool


def pull_of(motion: Motion, first_frame: int, count: int, rate: float) -> Pull:
    """What an intent asks of `count` frames from clip number `first_frame`."""
    frames = first_frame + np.arange(count)
    strength = keyed(motion.keyed("strength"), motion.strength, frames) * eased(motion.ease, frames)
    drifts = motion.intent == "pin" and motion.pin.drift_s > 0
    hold = motion.intent in ("hold", "pin") and not drifts
    if hold:
        seconds = np.full(count, HOLD_RESPONSE_S)
    elif drifts:
        seconds = np.full(count, motion.pin.drift_s)
    else:
        seconds = keyed(motion.keyed("response_s"), motion.response_s, frames)
    swing = 2 * np.sin(np.pi / np.maximum(2.0, seconds * rate))
    return Pull(swing**-2 if hold else np.zeros(count), swing**-6, strength, hold)


def eased(stretches: tuple[Ease, ...], frames: NDArray[np.intp]) -> Floats:
    """The share (N,) that is left after easing: flat over the middle half, raised cosines beside it."""
    left = np.ones(len(frames))
    for ease in stretches:
        away = np.abs(frames - ease.frame) / (ease.width / 2)
        left *= 1 - ease.amount * (1 + np.cos(np.pi * np.clip(2 * away - 1, 0, 1))) / 2
    return left


def hold_target(poses: Similarities, strength: Floats, size: Size) -> Similarities:
    """The one pose, repeated, that keeps the largest window in view of all frames.

    A linear program over (Re z, Im z, Re t, Im t) of that pose, maximising Re z: corners of the window,
    seen from every frame after its share of the correction, stay inside it. Turns are measured from their
    mean, so Re z is the scale. Most frames never bind: a few are solved for, then those that were violated
    join them.
    """
    count = len(poses)
    mean_turn = np.exp(1j * np.angle(poses.z / np.abs(poses.z)).mean()) if np.ptp(np.angle(poses.z)) < 3 else 1
    seen = poses.inverse()
    inside, room = containment_rows(size, centred_corners(size))
    # Row r on (z, t) of frame S = seen_z H z, seen_z H t + seen_t.
    per_frame = np.einsum("ri,nij->nrj", inside, as_real(seen.z * mean_turn)) * strength[:, None, None]
    shifts = np.stack([seen.t.real, seen.t.imag], -1)
    bound = room[None, :] - strength[:, None] * (shifts @ inside[:, 2:].T) - (1 - strength)[:, None] * inside[:, 0]
    scale = float(np.exp(np.log(np.abs(poses.z)).mean()))
    found = _largest(per_frame, bound)
    if found is not None:
        a, b, x, y = found
        z, t = complex(a, b) * mean_turn, complex(x, y) * mean_turn
        z *= scale / abs(z)
    else:
        z = scale * complex(mean_turn)
        t = complex(np.median(poses.t.real), np.median(poses.t.imag))
    return Similarities(np.full(count, z), np.full(count, t))


def _largest(rows: Floats, bound: Floats) -> Floats | None:
    """The x (4,) with `rows` (N, m, 4) x <= `bound` (N, m) and the largest first element, or None."""
    chosen = np.unique(np.linspace(0, len(rows) - 1, FIRST_FRAMES).astype(int))
    while True:
        solution = linprog(
            [-1.0, 0.0, 0.0, 0.0],
            A_ub=rows[chosen].reshape(-1, 4),
            b_ub=bound[chosen].ravel(),
            bounds=[(0.05, 20.0), (-0.2, 0.2), (None, None), (None, None)],
            method="highs",
        )
        if not solution.success:
            return None
        excess = (rows @ solution.x - bound).max(1)
        worst = np.setdiff1d(np.argsort(-excess)[:MORE_FRAMES], chosen)
        worst = worst[excess[worst] > 1e-6]
        if not len(worst):
            return np.asarray(solution.x)
        chosen = np.r_[chosen, worst]
