"""Two pictures of one frame in one: side by side, or parted by a line that can be moved and turned."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.stored import Plane


@dataclass(frozen=True)
class Comparison:
    """`layout` "side" puts `before` left of `after`; "wipe" parts them by a line.

    The line goes through `place` of the width at mid-height and is turned by `turn` radians from upright,
    clockwise; before lies on its left.
    """

    layout: Literal["side", "wipe"]
    place: float = 0.5
    turn: float = 0.0

    def size(self, one: Size) -> Size:
        """The size of the joined picture."""
        return Size(2 * one.width, one.height) if self.layout == "side" else one

    def joined(self, before: tuple[Plane, ...], after: tuple[Plane, ...]) -> tuple[Plane, ...]:
        """Planes of both pictures in one; `before` is brought to the size of `after`."""
        return tuple(self._plane(b, a) for b, a in zip(before, after, strict=True))

    def _plane(self, before: Plane, after: Plane) -> Plane:
        rows, columns = after.shape
        if before.shape != after.shape:
            before = np.asarray(cv2.resize(before, (columns, rows), interpolation=cv2.INTER_AREA), after.dtype)
        if self.layout == "side":
            return np.concatenate([before, after], axis=1)
        return np.where(self._left(rows, columns), before, after)

    def _left(self, rows: int, columns: int) -> NDArray[np.bool_]:
        x = (np.arange(columns) + 0.5) / columns - self.place
        y = ((np.arange(rows) + 0.5) / rows - 0.5) * rows / columns
        return np.asarray(np.add.outer(y * np.sin(self.turn), x * np.cos(self.turn)) < 0)
