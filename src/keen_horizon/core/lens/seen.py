"""What the straightened picture holds of the source, for windows that lie in it turned.

A window has no gap as long as nothing of the border of what was seen lies inside it: the border is carried into
the window, and the part of the frame that it leaves free is the room that the window has.
"""

from __future__ import annotations

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats
from keen_horizon.core.lens.projection import FURTHEST
from keen_horizon.core.lens.turning import LEAST_DEPTH

FURTHEST_PX = 1e7
NOWHERE = 1e10


def frame_shares(curves: Complex, size: Size) -> Floats:
    """How large a frame may be about the origin (N,) before it meets each curve (N, M), px: 1 for its own border.

    Curves are broken where a point lies very far away. Between two points that is least at one of them, or where the
    frame's corner meets their line.
    """
    x, y = curves.real / (size.width / 2), curves.imag / (size.height / 2)
    shares = np.maximum(np.abs(x), np.abs(y))
    far = shares >= FURTHEST
    x, y = np.where(far, 0.0, x), np.where(far, 0.0, y)
    least: Floats = shares.min(1, initial=np.inf)
    broken = far[:, :-1] | far[:, 1:]
    for height in (x - y, x + y):
        meets = np.nonzero((height[:, :-1] * height[:, 1:] < 0) & ~broken)
        start, later = height[:, :-1][meets], height[:, 1:][meets]
        place = start / (start - later)
        begin = x[:, :-1][meets]  # on a diagonal of the frame both offsets are the same but for their sign
        np.minimum.at(least, meets[0], np.abs(begin + place * (x[:, 1:][meets] - begin)))
    return least


def carried(curves: Complex, planes: Floats) -> Complex:
    """Curves (N or 1, M) through planes (N, 3, 3) -> (N, M); very far away what goes behind or was there."""
    x, y = curves.real, curves.imag
    near = np.maximum(np.abs(x), np.abs(y)) < FURTHEST_PX
    x, y = np.where(near, x, 0.0), np.where(near, y, 0.0)
    rows = planes[..., None]
    across, down, depth = (rows[:, i, 0] * x + rows[:, i, 1] * y + rows[:, i, 2] for i in range(3))
    ahead = near & (depth > LEAST_DEPTH)
    share = 1 / np.where(ahead, depth, 1.0)
    return np.asarray(np.where(ahead, across * share + 1j * (down * share), NOWHERE))
