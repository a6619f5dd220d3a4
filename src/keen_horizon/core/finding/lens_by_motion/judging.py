"""Whether what was found of a lens by the motion is to be believed, and how exactly it is known."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.lens_by_motion.search import Found
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.doubt import strays_of_straight_things
from keen_horizon.core.lens.lens import Lens

DOUBTED = 2.0  # times what the normal matrix says: errors of tracks that walk with the camera go together for longer
SHAKEN = 6.0  # the same where nearness explains what is no travel: a hand that jerks between frames (three films of 32)
WALKED = 2.0  # times its doubt the focal length is off behind a camera that walks (a tenth of thirty films: more)
LEAST_TRAVEL = 5e-4  # a frame over the depth: a walk is 0.0013 and more, what jerks make is 0.0002 at most
SURE_PX = 0.8  # at 1000 px wide
SURE_FOCAL, TOLD_FOCAL = 0.05, 0.03  # of itself: for a lens to be believed, and for its focal length to be told
UNEXPLAINED = 1.6  # times the points' noise may be left
BELIEVED = 0.5  # of the points at least


@dataclass(frozen=True)
class LensByMotion:
    """A lens that the motion told. `doubt_px` is how far straight things may stay bent, RMS at 1000 px wide, and
    `focal_doubt` by which share of itself the `focal` length, half-diagonals, may be off; `unexplained` is what is left
    over the noise of the points, and `believed` the share of these that agree.
    """

    lens: Lens
    focal: float
    walks: bool
    doubt_px: float
    focal_doubt: float
    unexplained: float
    believed: float

    @property
    def fits(self) -> bool:
        """Whether the points moved as such a camera makes them."""
        return self.unexplained <= UNEXPLAINED and self.believed >= BELIEVED

    @property
    def told_focal(self) -> float | None:
        """The focal length where it is known well enough to be told."""
        doubt = self.focal_doubt * (WALKED if self.walks else 1.0)
        return self.focal if doubt <= TOLD_FOCAL else None

    @property
    def sure(self) -> bool:
        """Whether the lens is known."""
        return self.fits and self.doubt_px <= SURE_PX and self.focal_doubt <= SURE_FOCAL

    @property
    def confidence(self) -> float:
        """From 1, known exactly, to 0, not told."""
        if not self.sure:
            return 0.0
        return float(1 - max(self.doubt_px / SURE_PX, self.focal_doubt / SURE_FOCAL) / 2)

    def refusal(self) -> str:
        """Why it is not believed, and what would help."""
        if not self.fits:
            return "What moves in the picture does not move as behind a turning camera."
        return (
            "The camera turns too little to tell the lens by it. Film a pan over a quarter of the picture, "
            "or choose a range with one."
        )


def judged_by_motion(found: Found, size: Size) -> LensByMotion:
    """What was found, with how exactly it is known. Raises LensError where it is no lens."""
    solved = found.solved
    camera = solved.state.camera
    if camera.lens.fold < 1 and not camera.angular:
        raise LensError("The motion tells no lens.")
    shaken = found.walks and np.linalg.norm(camera.travel) < LEAST_TRAVEL
    doubted = SHAKEN if shaken else DOUBTED
    covariance = np.asarray(doubted**2 * np.linalg.inv(solved.information), np.float64)
    _, strays = strays_of_straight_things(camera.lens, covariance[: camera.shape, : camera.shape], size)
    return LensByMotion(
        lens=camera.lens,
        focal=camera.focal,
        walks=found.walks,
        doubt_px=float(np.sqrt(strays.mean())) * 1000 / size.width,
        focal_doubt=doubted * solved.focal_spread,
        unexplained=solved.unexplained,
        believed=float(solved.agreeing),
    )
