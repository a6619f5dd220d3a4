"""Stacks of planar similarities as pairs of complex numbers.

A similarity maps the point p = x + iy to z p + t, with z = s exp(i angle). Written so, composing,
inverting and fitting are exact and linear in (z, t), which the pose graph and the path solver rely
on. The convention of the project holds: `b_from_a` takes points of a to points of b.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Complex = NDArray[np.complex128]
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Similarities:
    """A stack of N similarities; `z` and `t` are complex arrays of shape (N,)."""

    z: Complex
    t: Complex

    def __post_init__(self) -> None:
        if self.z.shape != self.t.shape:
            raise ValueError(f"z {self.z.shape} and t {self.t.shape} must have one shape")

    def __len__(self) -> int:
        return len(self.z)

    def __getitem__(self, item: slice | NDArray[np.intp]) -> Similarities:
        return Similarities(self.z[item], self.t[item])

    def __matmul__(self, inner: Similarities) -> Similarities:
        """c_from_b @ b_from_a -> c_from_a."""
        return Similarities(self.z * inner.z, self.z * inner.t + self.t)

    def inverse(self) -> Similarities:
        """a_from_b of every b_from_a."""
        return Similarities(1 / self.z, -self.t / self.z)

    def apply(self, points: Complex) -> Complex:
        """Map complex points (M,) by every similarity -> (N, M)."""
        return self.z[:, None] * points[None, :] + self.t[:, None]

    def matrices(self) -> Floats:
        """As homogeneous matrices (N, 3, 3) acting on column vectors (x, y, 1)."""
        out = np.zeros((len(self), 3, 3))
        out[:, 0, 0] = out[:, 1, 1] = self.z.real
        out[:, 0, 1], out[:, 1, 0] = -self.z.imag, self.z.imag
        out[:, 0, 2], out[:, 1, 2] = self.t.real, self.t.imag
        out[:, 2, 2] = 1.0
        return out

    def about(self, origin: complex) -> Similarities:
        """The same maps in coordinates whose origin lies at `origin`."""
        return Similarities(self.z, self.z * origin + self.t - origin)

    def scaled(self, factor: float) -> Similarities:
        """The same maps in coordinates that are `factor` times larger."""
        return Similarities(self.z, self.t * factor)

    @staticmethod
    def identity(count: int) -> Similarities:
        """N times the identity."""
        return Similarities(np.ones(count, np.complex128), np.zeros(count, np.complex128))

    @staticmethod
    def chain(next_from_this: Similarities) -> Similarities:
        """Poses first_from_frame (N + 1,) of N consecutive pair motions."""
        poses_z = np.ones(len(next_from_this) + 1, np.complex128)
        poses_t = np.zeros(len(next_from_this) + 1, np.complex128)
        back = next_from_this.inverse()
        for i in range(len(next_from_this)):
            poses_z[i + 1] = poses_z[i] * back.z[i]
            poses_t[i + 1] = poses_z[i] * back.t[i] + poses_t[i]
        return Similarities(poses_z, poses_t)


def as_complex(points: NDArray[np.floating]) -> Complex:
    """Points (N, 2) of (x, y) as complex numbers (N,)."""
    return np.array(points, np.float64, order="C").view(np.complex128)[:, 0]


def as_points(values: Complex) -> Floats:
    """Complex numbers (N,) as points (N, 2) of (x, y)."""
    return np.array(values, np.complex128, order="C")[..., None].view(np.float64)


def fit_similarity(source: Complex, target: Complex, weights: Floats) -> tuple[complex, complex]:
    """Weighted least-squares similarity target = z source + t, from points (N,) with N >= 2."""
    total = weights.sum()
    source_mean = (weights * source).sum() / total
    target_mean = (weights * target).sum() / total
    centred = source - source_mean
    power = (weights * np.abs(centred) ** 2).sum()
    if power <= 0:
        return 1 + 0j, complex(target_mean - source_mean)
    z = (weights * np.conj(centred) * (target - target_mean)).sum() / power
    return complex(z), complex(target_mean - z * source_mean)


def fit_similarities(source: Complex, target: Complex, weights: Floats) -> tuple[Complex, Complex]:
    """The same for E sets of points at once, (E, N) each; sets without two points apart keep their scale and turn."""
    total = np.maximum(weights.sum(1), 1e-9)
    from_mean, to_mean = (weights * source).sum(1) / total, (weights * target).sum(1) / total
    off = source - from_mean[:, None]
    power = (weights * np.abs(off) ** 2).sum(1)
    turned = (weights * np.conj(off) * (target - to_mean[:, None])).sum(1)
    z = np.where(power > 1e-9, turned / np.maximum(power, 1e-9), 1)
    return z, to_mean - z * from_mean
