"""From measured motion to the steadied path.

With poses P (reference_from_source) and a correction S per frame, the camera seems to move along
V = P S. Written with complex z and t, V is linear in S and so are the window's corners in the source
frame: the path is one convex quadratic program, and containment holds exactly, not to first order.

    minimise  sum |V - T|^2 + l3 |D3 V|^2 (+ l1 |D V|^2 for Hold)

in pixels of corner displacement. T is the measured path for Glide and a fixed pose for Hold. With the
measured path as target the free minimiser is a linear filter, the third-order Whittaker smoother
(Eilers 2003), whose gain at period p is 1 / (1 + l3 (2 sin(pi / p))^6): `response_s` is the period at
which half of a movement is kept, so it means seconds. That differs from penalties of all three
differences without a target, where only the crop decides what remains and no figure has a unit.

First the free path is solved; if its zoom is within the limit, that is the answer and costs no more
than it needs. Otherwise the window is fixed at the limit and the program solved with containment.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linprog

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.banded import BandedProgram, minimise, minimise_free
from keen_horizon.core.path.window import containment_rows, window_zoom
from keen_horizon.core.treatment import Motion, Treatment

Floats = NDArray[np.float64]

HOLD_RESPONSE_S = 1.5
SAFETY = 1 + 1e-7
TURN_PASSES, TURN_TOLERANCE_PX = 8, 1e-4


@dataclass(frozen=True)
class CameraPath:
    """The steadied path of N frames, centred coordinates (see `window`).

    `src_from_out` (N,) is the planar correction with its zoom; `wanted_zoom` (N,) the enlargement each
    frame would need if no limit held, `zoom` (N,) the one it has; `measured` and `steadied` are the poses
    before and after; `limited` tells whether the zoom limit changed the path.
    """

    size: Size
    first: int
    src_from_out: Similarities
    wanted_zoom: Floats
    measured: Similarities
    steadied: Similarities
    limited: bool

    @property
    def zoom(self) -> Floats:
        """Enlargement of every frame (N,)."""
        return np.asarray(1 / np.abs(self.src_from_out.z))

    def out_from_src(self) -> Floats:
        """The planar correction as matrices (N, 3, 3) in pixels of the display size."""
        return np.asarray(np.linalg.inv(self.matrices()), np.float64)

    def matrices(self) -> Floats:
        """src_from_out (N, 3, 3) in pixels of the display size."""
        return self.src_from_out.about(-self.size.centre).matrices()


def solve_path(measurement: Measurement, treatment: Treatment) -> CameraPath:
    """The path for a treatment; `measurement` covers exactly the range.

    Raises SolveError when the solver fails.
    """
    size, motion = measurement.size, treatment.motion
    poses = measurement.poses.about(size.centre)
    count = len(poses)
    if motion.intent is None or not motion.freedom or count < 2:
        still = Similarities.identity(count)
        return CameraPath(size, measurement.first, still, np.ones(count), poses, poses, False)
    target = _hold_target(poses, motion, size) if motion.intent == "hold" else poses
    weights = _penalties(motion, measurement.rate)
    free = _solve(poses, target, weights, motion, size, None)
    demand = window_zoom(free, size)
    wanted = np.minimum(demand, 99.0) / np.abs(free.z)
    if treatment.framing.edges == "leave":
        return _path(measurement, poses, free, 1.0, wanted, False)
    zoom = max(1.0, float(demand.max())) * SAFETY
    limit = treatment.framing.zoom_limit
    if zoom / np.abs(free.z).min() <= limit:
        return _path(measurement, poses, free, zoom, wanted, False)
    smallest = min(1.0, float(np.abs(free.z).min())) if "size" in motion.freedom else 1.0
    base = max(1.0, limit * max(0.9, smallest))
    bounded = _solve(poses, target, weights, motion, size, (base, limit))
    needed = max(1.0, float(window_zoom(bounded, size).max())) * SAFETY
    exact = min(needed, limit * float(np.abs(bounded.z).min()))
    return _path(measurement, poses, bounded, max(exact, 1.0), wanted, True)


def _path(
    measurement: Measurement,
    poses: Similarities,
    correction: Similarities,
    zoom: float,
    wanted: Floats,
    limited: bool,
) -> CameraPath:
    window = Similarities(correction.z / zoom, correction.t)
    return CameraPath(measurement.size, measurement.first, window, wanted, poses, poses @ correction, limited)


def _penalties(motion: Motion, rate: float) -> tuple[float, float]:
    """Weights of the first and third difference."""
    seconds = motion.response_s if motion.intent == "glide" else HOLD_RESPONSE_S
    period = max(2.0, seconds * rate)
    third = float((2 * np.sin(np.pi / period)) ** -6)
    first = float((2 * np.sin(np.pi / period)) ** -2) if motion.intent == "hold" else 0.0
    return first, third


def _solve(
    poses: Similarities,
    target: Similarities,
    penalties: tuple[float, float],
    motion: Motion,
    size: Size,
    limits: tuple[float, float] | None,
) -> Similarities:
    """The best correction (N,), within (window zoom, zoom limit) where given."""
    radius = size.half_diagonal
    columns = [i for i, name in enumerate(("size", "turn", "shift", "shift")) if name in motion.freedom]
    fixed = np.zeros((len(poses), 4))
    fixed[:, 0] = radius
    # Without "size" a turn must keep |z| = 1, which is not linear: further passes correct its cosine.
    passes = TURN_PASSES if "turn" in motion.freedom and "size" not in motion.freedom else 1
    for _ in range(passes):
        program, start = _program(poses, target, penalties, columns, fixed, size, limits)
        solved = minimise_free(program) if limits is None else minimise(program, start)
        full = fixed.copy()
        full[:, columns] = solved
        cosine = np.sqrt(np.maximum(radius**2 - full[:, 1] ** 2, 0))
        settled = passes > 1 and float(np.abs(cosine - full[:, 0]).max()) < TURN_TOLERANCE_PX
        fixed[:, 0] = cosine
        if settled:
            break
    z, t = (full[:, 0] + 1j * full[:, 1]) / radius, full[:, 2] + 1j * full[:, 3]
    return Similarities(np.asarray(z, np.complex128), np.asarray(t, np.complex128))


def _program(
    poses: Similarities,
    target: Similarities,
    penalties: tuple[float, float],
    columns: list[int],
    fixed: Floats,
    size: Size,
    limits: tuple[float, float] | None,
) -> tuple[BandedProgram, Floats]:
    """Variables per frame: the chosen columns of (radius Re z, radius Im z, Re t, Im t) of S."""
    count, radius = len(poses), size.half_diagonal
    frame = _as_real(poses.z)  # (N, 4, 4): what a correction does to the path
    free = frame[:, :, columns]
    base = np.einsum("nij,nj->ni", frame, _without(fixed, columns))
    base[:, 2:] += np.stack([poses.t.real, poses.t.imag], -1)
    wanted = np.stack([radius * target.z.real, radius * target.z.imag, target.t.real, target.t.imag], -1)
    smooth = _difference_bands(count, penalties)
    hessian = _banded_hessian(smooth, free)
    right = wanted - _smooth_product(smooth, base)
    linear = np.einsum("nij,ni->nj", free, right).ravel()
    rows, bound = np.zeros((count, 0, len(columns))), np.zeros((count, 0))
    start = np.broadcast_to(np.array([radius, 0.0, 0.0, 0.0])[columns], (count, len(columns)))
    if limits is not None:
        rows, bound = _limit_rows(columns, fixed, size, limits, radius)
    return BandedProgram(hessian, linear, rows, bound), np.array(start)


def _limit_rows(
    columns: list[int], fixed: Floats, size: Size, limits: tuple[float, float], radius: float
) -> tuple[Floats, Floats]:
    zoom, limit = limits
    inside, room = containment_rows(size, zoom)
    inside = inside / np.array([radius, radius, 1.0, 1.0])
    if 0 in columns:
        inside = np.vstack([inside, [-1.0 / radius, 0.0, 0.0, 0.0]])
        room = np.append(room, -zoom / limit)
    used = room[None, :] - _without(fixed, columns) @ inside.T
    rows = np.broadcast_to(inside[:, columns], (len(fixed), len(inside), len(columns)))
    return np.ascontiguousarray(rows), used


def _without(fixed: Floats, columns: list[int]) -> Floats:
    constant = fixed.copy()
    constant[:, columns] = 0.0
    return constant


def _as_real(z: Complex) -> Floats:
    """Multiplying (u, t) by z, both complex, as real matrices (N, 4, 4)."""
    out = np.zeros((len(z), 4, 4))
    for at in (0, 2):
        out[:, at, at] = out[:, at + 1, at + 1] = z.real
        out[:, at, at + 1], out[:, at + 1, at] = -z.imag, z.imag
    return out


def _difference_bands(count: int, penalties: tuple[float, float]) -> Floats:
    """I + l1 D1'D1 + l3 D3'D3 as lower bands (4, N)."""
    bands = np.zeros((4, count))
    bands[0] = 1.0
    for order, weight in zip((1, 3), penalties, strict=True):
        if weight == 0.0 or count <= order:
            continue
        stencil = np.diff(np.eye(order + 1), order, axis=0)[0]
        for i in range(order + 1):
            for j in range(i + 1):
                bands[i - j, j : count - order + j] += weight * stencil[i] * stencil[j]
    return bands


def _smooth_product(bands: Floats, values: Floats) -> Floats:
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


def _hold_target(poses: Similarities, motion: Motion, size: Size) -> Similarities:
    """The one pose, repeated, that keeps the largest window in view of all frames.

    A linear program over (Re z, Im z, Re t, Im t) of that pose, maximising Re z: corners of the window,
    seen from every frame, stay inside it. Turns are measured from their mean, so Re z is the scale.
    """
    count = len(poses)
    mean_turn = np.exp(1j * np.angle(poses.z / np.abs(poses.z)).mean()) if np.ptp(np.angle(poses.z)) < 3 else 1
    seen = poses.inverse()
    inside, room = containment_rows(size, 1.0)
    # Row r on (z, t) of frame S = seen_z H z, seen_z H t + seen_t.
    per_frame = np.einsum("ri,nij->nrj", inside, _as_real(seen.z * mean_turn))
    shifts = np.stack([seen.t.real, seen.t.imag], -1)
    bound = room[None, :] - shifts @ inside[:, 2:].T
    solution = linprog(
        [-1.0, 0.0, 0.0, 0.0],
        A_ub=per_frame.reshape(-1, 4),
        b_ub=bound.ravel(),
        bounds=[(0.05, None), (-0.2, 0.2), (None, None), (None, None)],
        method="highs",
    )
    scale = float(np.exp(np.log(np.abs(poses.z)).mean()))
    if solution.success:
        a, b, x, y = solution.x
        z, t = complex(a, b) * mean_turn, complex(x, y) * mean_turn
        z *= scale / abs(z)
    else:
        z = scale * complex(mean_turn)
        t = complex(np.median(poses.t.real), np.median(poses.t.imag))
    return Similarities(np.full(count, z), np.full(count, t))
