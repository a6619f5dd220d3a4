"""Numbers packed for a viewer."""

from __future__ import annotations

import base64

import numpy as np
from numpy.typing import NDArray


def packed(values: NDArray[np.float64]) -> str:
    """Values as float32, least byte first, in base64."""
    return base64.b64encode(values.astype("<f4").tobytes()).decode()


def packed_whole(values: NDArray[np.floating]) -> str:
    """Values rounded to int16, least byte first, in base64."""
    return base64.b64encode(np.rint(values).astype("<i2").tobytes()).decode()
