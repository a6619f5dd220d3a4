"""What a camera is: pictures whose points see along rays."""

from __future__ import annotations

from typing import Protocol

from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Real
from keen_horizon.core.geometry.picture import Size


class Camera(Protocol):
    """A camera with a picture of `size`, px; its rays have x to the right, y down and z ahead."""

    @property
    def size(self) -> Size:
        """The picture's."""

    def rays(self, points: NDArray[Real]) -> NDArray[Real]:
        """Rays (P, 3), of any length, that points (P, 2) see."""

    def points(self, rays: NDArray[Real]) -> NDArray[Real]:
        """The reverse: points (P, 2), beyond the picture where nothing of it sees a ray."""
