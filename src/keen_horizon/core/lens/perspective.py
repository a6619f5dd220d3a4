"""What lies between the delivered and the straightened picture: a turned camera, and four moved corners.

Homographies (3, 3) are on offsets from the middle, half-diagonals, from the delivered to the straightened
picture. A camera that turns behind a lens without bend moves the picture by K R inv(K) (Hartley & Zisserman 2004,
8.4), K scaling by the focal length; the middle stays in the middle, as with a lens that can be shifted.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere
from keen_horizon.core.geometry.picture import Size

Floats = NDArray[np.float64]

RELUCTANCE = (1e-4, 1e-2)  # how unwillingly roll and pitch, radians, leave zero: one line alone tells roll
LEAST_DEPTH = 1e-6
LEAST_CROSSED = 1e-5


def turned_camera(roll_deg: float, pitch_deg: float, yaw_deg: float, focal: float) -> Floats:
    """The homography of a camera turned by roll (clockwise), pitch (up) and yaw (to the right)."""
    rotation = _rotation(*np.radians([roll_deg, pitch_deg, yaw_deg]))
    scale = np.diag([focal, focal, 1.0])
    return settled(scale @ rotation @ np.linalg.inv(scale))


def keystone(corners: Sequence[float], size: Size) -> Floats:
    """The homography that shows at each corner, clockwise from the top left, what lies `corners` away from it.

    `corners` are eight shares, x of the width and y of the height by turns, positive to the right and down.
    """
    half = np.array([size.width, size.height]) / 2 / size.half_diagonal
    there = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * half
    return _homography(there, there + 2 * half * np.reshape(corners, (4, 2)))


def convex(corners: Sequence[float]) -> bool:
    """Whether a frame whose corners are moved by eight shares still has them in their order."""
    moved = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]]) + np.reshape(corners, (4, 2))
    return bool((_crossed(moved) > LEAST_CROSSED).all())


def corners_of(quad: Floats, size: Size) -> Floats | None:
    """The eight shares for `keystone` that make a quadrilateral upright and right-angled.

    `quad` (4, 2), clockwise from the top left, offsets from the middle of the flat picture, half-diagonals, becomes
    the rectangle of its own mean width, height and middle. None where it is no convex quadrilateral.
    """
    x, y = quad.T
    if (_crossed(quad) <= LEAST_CROSSED).any():
        return None
    left, right = x[[0, 3]].mean(), x[[1, 2]].mean()
    top, bottom = y[[0, 1]].mean(), y[[2, 3]].mean()
    rectangle = np.array([[left, top], [right, top], [right, bottom], [left, bottom]])
    homography = settled(_homography(rectangle, quad))
    half = np.array([size.width, size.height]) / 2 / size.half_diagonal
    corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * half
    moved = through(homography, corners)
    return None if np.abs(moved).max() > 3 else np.asarray((moved - corners) / (2 * half)).ravel()


def horizon_turn(lines: Sequence[Floats], focal: float) -> tuple[float, float]:
    """The roll and pitch, degrees, for `turned_camera` that set lines level or vertical, whichever each is nearer to.

    Lines (2, 2) are pairs of points, offsets from the middle of the straightened picture, half-diagonals. One line
    turns the picture; from two verticals on the camera is pitched too.
    """
    normals = np.array([np.cross([*(line[0] / focal), 1.0], [*(line[1] / focal), 1.0]) for line in lines])
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    across = np.array([abs(line[1, 0] - line[0, 0]) >= abs(line[1, 1] - line[0, 1]) for line in lines])

    def left(angles: Floats) -> Floats:
        seen = normals @ _rotation(angles[0], angles[1], 0.0)  # a plane's normal as the turned camera has it
        return np.concatenate([np.where(across, seen[:, 0], seen[:, 1]), angles * RELUCTANCE])

    roll, pitch = np.degrees(least_squares(left, np.zeros(2)).x)
    return float(roll), float(pitch)


def through(homography: Floats, points: Floats) -> Floats:
    """Points (N, 2) through a homography; nowhere where it sends them behind the picture, or where they were so."""
    mapped = points @ homography[:2, :2].T + homography[:2, 2]
    depth = points @ homography[2, :2] + homography[2, 2]
    behind = depth <= LEAST_DEPTH
    found = np.where(behind[:, None], np.copysign(NOWHERE, mapped), mapped / np.where(behind, 1.0, depth)[:, None])
    return np.asarray(np.where(is_nowhere(points)[:, None], points, found))


def settled(homography: Floats) -> Floats:
    """The same homography, moved and scaled so that the middle stays in the middle at its own scale."""
    middle = np.linalg.solve(homography, [0.0, 0.0, 1.0])
    homography = homography @ np.array([[1, 0, middle[0] / middle[2]], [0, 1, middle[1] / middle[2]], [0, 0, 1.0]])
    homography = homography / homography[2, 2]
    scale = np.sqrt(abs(np.linalg.det(homography[:2, :2])))
    return np.asarray(homography @ np.diag([1 / scale, 1 / scale, 1.0]))


def _crossed(quad: Floats) -> Floats:
    """Twice the area (4,) that each two neighbouring sides span; above 0 where they turn clockwise."""
    sides = np.roll(quad, -1, 0) - quad
    return np.asarray(sides[:, 0] * np.roll(sides[:, 1], -1) - sides[:, 1] * np.roll(sides[:, 0], -1))


def _rotation(roll: float, pitch: float, yaw: float) -> Floats:
    """Where the turned camera's axes lie: x to the right, y down, z ahead."""
    (cr, cp, cy), (sr, sp, sy) = np.cos([roll, pitch, yaw]), np.sin([roll, pitch, yaw])
    about_z = np.array([[cr, -sr, 0], [sr, cr, 0], [0, 0, 1]])
    about_x = np.array([[1, 0, 0], [0, cp, -sp], [0, sp, cp]])
    about_y = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    return np.asarray(about_z @ about_x @ about_y)


def _homography(source: Floats, target: Floats) -> Floats:
    """The homography that takes four points to four others (the direct linear transform)."""
    rows = []
    for (x, y), (u, v) in zip(source, target, strict=True):
        rows += [[x, y, 1, 0, 0, 0, -u * x, -u * y], [0, 0, 0, x, y, 1, -v * x, -v * y]]
    return np.append(np.linalg.solve(np.array(rows), target.ravel()), 1.0).reshape(3, 3)
