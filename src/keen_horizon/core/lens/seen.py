"""What the straightened picture holds of the source, for windows that lie in it turned.

A window has no gap as long as nothing of the border of what was seen lies inside it: the border is carried into
the window, and the part of the frame that it leaves free is the room that the window has.
"""

from __future__ import annotations

import numpy as np

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere_complex
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats
from keen_horizon.core.lens.perspective import LEAST_DEPTH


def frame_shares(curves: Complex, size: Size) -> Floats:
    """How large a frame may be about the origin (N,) before it meets each curve (N, M), px: 1 for its own border.

    Curves are broken where a point is nowhere. Between two points that is least at one of them, or where the
    frame's corner meets their line.
    """
    x, y = curves.real * (2 / size.width), curves.imag * (2 / size.height)
    shares = np.maximum(np.abs(x), np.abs(y))
    far = is_nowhere_complex(curves)
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


def carried(curves: Complex, homographies: Floats) -> Complex:
    """Curves (N or 1, M) through homographies (N, 3, 3) -> (N, M); nowhere what goes behind or was so."""
    x, y = curves.real, curves.imag
    near = ~is_nowhere_complex(curves)
    flat = np.stack([np.where(near, x, 0.0), np.where(near, y, 0.0), near.astype(np.float64)], 1)
    across, down, depth = np.moveaxis(homographies @ flat, 1, 0)
    behind = ~(near & (depth > LEAST_DEPTH))
    depth[behind] = 1.0
    out = np.empty(depth.shape, np.complex128)
    out.real, out.imag = across / depth, down / depth
    out[behind] = NOWHERE
    return out
