"""The banded program of a wish: V = P S as close to its target as smoothness and the window allow.

Written with complex z and t, V is linear in S and so are the window's corners in the source frame: one
convex quadratic program, in which containment holds exactly, not to first order.

    minimise  sum |V - T|^2 + l3 |D3 V|^2 (+ l1 |D V|^2 for Hold)

in pixels of corner displacement. What is made is the share s of it, I + s (S - I), and that is what the
window's limits bind.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.lens.dead_border import Cuts
from keen_horizon.core.path.banded import BandedProgram, minimise, minimise_free
from keen_horizon.core.path.window import containment_rows, cut_rows

Floats = NDArray[np.float64]

TURN_PASSES, TURN_TOLERANCE_PX = 8, 1e-4
WINDOW, OVERLAP = 3000, 600


@dataclass(frozen=True)
class Wish:
    """`target` (N,) poses, weights `first` and `third` (N,) of the first and third difference around
    each frame, `strength` (N,) the share of the correction that is made, and the freedoms.
    """

    target: Similarities
    first: Floats
    third: Floats
    strength: Floats
    freedom: tuple[str, ...]

    def part(self, frames: slice) -> Wish:
        """The wish of some frames."""
        return Wish(self.target[frames], self.first[frames], self.third[frames], self.strength[frames], self.freedom)


@dataclass(frozen=True)
class Limits:
    """What binds a path: window `corners` (4,) or (N, 4) that must stay inside the source shrunk by `room` (N,), and
    inside its `cuts` where it is dead; the least |z|.
    """

    corners: Complex
    least_size: float
    room: Floats
    cuts: Cuts | None = None

    def part(self, frames: slice) -> Limits:
        """The limits of some frames."""
        corners = self.corners if self.corners.ndim == 1 else self.corners[frames]
        return Limits(corners, self.least_size, self.room[frames], self.cuts and self.cuts.of(frames))


def corrections(poses: Similarities, wish: Wish, size: Size, limits: Limits | None) -> Similarities:
    """The corrections made (N,), within limits where given. Raises SolveError.

    Long ranges are solved in windows that overlap, blended where they do: the limits are convex, so what
    lies between two corrections that keep them keeps them too.
    """
    if len(poses) <= WINDOW:
        return _corrections(poses, wish, size, limits)
    z, t = np.zeros(len(poses), np.complex128), np.zeros(len(poses), np.complex128)
    total = np.zeros(len(poses))
    for start in range(0, len(poses) - OVERLAP, WINDOW - OVERLAP):
        frames = slice(start, min(len(poses), start + WINDOW))
        part = _corrections(poses[frames], wish.part(frames), size, limits.part(frames) if limits else None)
        place = np.arange(len(part))
        first, last = start == 0, frames.stop == len(poses)
        share = np.minimum(
            np.ones(len(part)) if first else (place + 1) / OVERLAP,
            np.ones(len(part)) if last else (len(part) - place) / OVERLAP,
        ).clip(0, 1)
        z[frames] += share * part.z
        t[frames] += share * part.t
        total[frames] += share
    return Similarities(z / total, t / total)


def _corrections(poses: Similarities, wish: Wish, size: Size, limits: Limits | None) -> Similarities:
    radius = size.half_diagonal
    columns = [i for i, name in enumerate(("size", "turn", "shift", "shift")) if name in wish.freedom]
    if not columns:  # tilt alone
        return Similarities.identity(len(poses))
    turning = "turn" in wish.freedom and "size" not in wish.freedom
    full = np.zeros((len(poses), 4))
    full[:, 0] = radius
    # Without "size" a turn must keep |z| = 1, which is not linear: further passes correct its cosine.
    for _ in range(TURN_PASSES if turning else 1):
        program, start = _program(poses, wish, columns, full, size, limits)
        cosine = full[:, 0].copy()
        full[:, columns] = minimise_free(program) if limits is None else minimise(program, start)
        if turning:
            full[:, 0] = np.sqrt(np.maximum(radius**2 - full[:, 1] ** 2, 0))
            if float(np.abs(cosine - full[:, 0]).max()) < TURN_TOLERANCE_PX:
                break
    made = _share(full, wish.strength, radius, turning) / (radius, radius, 1, 1)
    return Similarities(made[:, 0] + 1j * made[:, 1], made[:, 2] + 1j * made[:, 3])


def _share(full: Floats, strength: Floats, radius: float, turning: bool) -> Floats:
    """I + s (S - I) of corrections (N, 4); a pure turn stays one."""
    made = full * strength[:, None]
    made[:, 0] += (1 - strength) * radius
    if turning:
        made[:, 0] = np.sqrt(np.maximum(radius**2 - made[:, 1] ** 2, 0))
    return made


def _program(
    poses: Similarities,
    wish: Wish,
    columns: list[int],
    known: Floats,
    size: Size,
    limits: Limits | None,
) -> tuple[BandedProgram, Floats]:
    """Variables per frame: the chosen columns of (radius Re z, radius Im z, Re t, Im t) of S.

    The other columns stay as in `known` (N, 4).
    """
    count, radius = len(poses), size.half_diagonal
    frame = as_real(poses.z)  # (N, 4, 4): what a correction does to the path
    free = frame[:, :, columns]
    base = np.einsum("nij,nj->ni", frame, _without(known, columns))
    base[:, 2:] += np.stack([poses.t.real, poses.t.imag], -1)
    target = wish.target
    wanted = np.stack([radius * target.z.real, radius * target.z.imag, target.t.real, target.t.imag], -1)
    smooth = difference_bands(wish.first, wish.third)
    right = wanted - smooth_product(smooth, base)
    linear = np.einsum("nij,ni->nj", free, right).ravel()
    rows, bound = np.zeros((0, len(columns))), np.zeros((count, 0))
    start = np.broadcast_to(np.array([radius, 0.0, 0.0, 0.0])[columns], (count, len(columns)))
    if limits is not None:
        rows, bound = _limit_rows(columns, known, wish.strength, size, limits)
    return BandedProgram(_banded_hessian(smooth, free), linear, rows, wish.strength, bound), np.array(start)


def _limit_rows(
    columns: list[int], known: Floats, strength: Floats, size: Size, limits: Limits
) -> tuple[Floats, Floats]:
    radius = size.half_diagonal
    inside, bound = containment_rows(size, limits.corners)
    room = bound / limits.room[:, None]
    if limits.cuts is not None:
        within, reaches = cut_rows(limits.cuts, limits.corners)
        shape = np.broadcast_shapes(inside.shape[:-2], within.shape[:-2])
        both = (np.broadcast_to(rows, (*shape, *rows.shape[-2:])) for rows in (inside, within))
        inside = np.concatenate(list(both), -2)
        room = np.column_stack([room, reaches / limits.room[:, None]])
    inside = inside / np.array([radius, radius, 1.0, 1.0])
    if 0 in columns:
        smallest = np.broadcast_to([-1.0 / radius, 0.0, 0.0, 0.0], (*inside.shape[:-2], 1, 4))
        inside = np.concatenate([inside, smallest], -2)
        room = np.column_stack([room, np.full(len(room), -limits.least_size)])
    made = _share(known, strength, radius, 1 in columns and 0 not in columns)
    made[:, columns] = 0.0
    if 0 in columns:
        made[:, 0] = (1 - strength) * radius
    taken = made @ inside.T if inside.ndim == 2 else np.einsum("nmk,nk->nm", inside, made)
    return inside[..., columns], room - taken


def _without(known: Floats, columns: list[int]) -> Floats:
    constant = known.copy()
    constant[:, columns] = 0.0
    return constant


def as_real(z: Complex) -> Floats:
    """Multiplying (u, t) by z, both complex, as real matrices (N, 4, 4)."""
    out = np.zeros((len(z), 4, 4))
    for at in (0, 2):
        out[:, at, at] = out[:, at + 1, at + 1] = z.real
        out[:, at, at + 1], out[:, at + 1, at] = -z.imag, z.imag
    return out


def difference_bands(first: Floats, third: Floats) -> Floats:
    """I + D1' l1 D1 + D3' l3 D3 as lower bands (4, N); weights (N,) are averaged over each difference."""
    count = len(first)
    bands = np.zeros((4, count))
    bands[0] = 1.0
    for order, weights in ((1, first), (3, third)):
        if count <= order or not weights.any():
            continue
        stencil = np.diff(np.eye(order + 1), order, axis=0)[0]
        weight = np.convolve(weights, np.full(order + 1, 1 / (order + 1)), "valid")
        for i in range(order + 1):
            for j in range(i + 1):
                bands[i - j, j : count - order + j] += weight * stencil[i] * stencil[j]
    return bands


def smooth_product(bands: Floats, values: Floats) -> Floats:
    """A symmetric matrix, by its lower bands (b, N), times values (N, k)."""
    out = bands[0][:, None] * values
    for k in range(1, min(len(bands), len(values))):
        out[k:] += bands[k, :-k, None] * values[:-k]
        out[:-k] += bands[k, :-k, None] * values[k:]
    return np.asarray(out)


def _banded_hessian(bands: Floats, free: Floats) -> Floats:
    """G'(bands x I4)G with G block diagonal (N, 4, k), as lower bands (4 k, N k)."""
    count, _, k = free.shape
    out = np.zeros((4 * k, count * k))
    for lag in range(min(4, count)):
        blocks = np.einsum("nai,naj->nij", free[lag:], free[: count - lag])  # row frame n + lag, column n
        blocks = blocks * bands[lag, : count - lag, None, None]
        for i in range(k):
            for j in range(k):
                band = lag * k + i - j
                if band >= 0:
                    out[band, j : (count - lag) * k : k] = blocks[:, i, j]
    return out
