"""How much two pictures are alike, place by place: what passes in front of a followed thing is told by that."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray


def local_correlation(a: NDArray[np.uint8], b: NDArray[np.uint8], around: int) -> NDArray[np.float32]:
    """The correlation of two pictures (rows, columns) in a square of side `around` about every pixel."""
    x, y = a.astype(np.float32), b.astype(np.float32)
    parts = (cv2.boxFilter(part, -1, (around, around)) for part in (x, y, x * x, y * y, x * y))
    mean_a, mean_b, square_a, square_b, product = parts
    spread = (square_a - mean_a**2) * (square_b - mean_b**2)
    return np.asarray((product - mean_a * mean_b) / np.sqrt(np.maximum(spread, 1.0)))
