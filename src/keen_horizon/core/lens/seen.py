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
    x, y = curves.real * (2 / size.width), curves.imag * (2 / size.height)
    shares = np.maximum(np.abs(x), np.abs(y))
    far = shares >= FURTHEST
    least: Floats = shares.min(1, initial=np.inf)
    for height in (x - y, x + y):
        below = height < 0
        meets = below[:, 1:] != below[:, :-1]
        row, at = np.divmod(np.flatnonzero(meets), meets.shape[1])
        whole = ~(far[row, at] | far[row, at + 1])
        row, at = row[whole], at[whole]
        start, begin = height[row, at], x[row, at]
        place = start / (start - height[row, at + 1])
        # on a diagonal of the frame both offsets are the same but for their sign
        np.minimum.at(least, row, np.abs(begin + place * (x[row, at + 1] - begin)))
    return least


def carried(curves: Complex, planes: Floats) -> Complex:
    """Curves (N or 1, M) through planes (N, 3, 3) -> (N, M); very far away what goes behind or was there."""
    x, y = curves.real, curves.imag
    near = np.maximum(np.abs(x), np.abs(y)) < FURTHEST_PX
    flat = np.stack([np.where(near, x, 0.0), np.where(near, y, 0.0), near.astype(np.float64)], 1)
    across, down, depth = np.moveaxis(planes @ flat, 1, 0)
    behind = ~(near & (depth > LEAST_DEPTH))
    depth[behind] = 1.0
    out = np.empty(depth.shape, np.complex128)
    out.real, out.imag = across / depth, down / depth
    out[behind] = NOWHERE
    return out
