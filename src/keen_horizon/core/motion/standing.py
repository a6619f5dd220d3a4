"""Following a point of what stands still in the scene: a sign, a window, a wheelhouse that people walk past.

Where it lies is known from the motion of its surroundings all along, but for a little that near or far things add. So
only that little is measured, and only of what of its picture goes with the patch around: what passes in front is
parted from it, and while it is hidden it goes with its surroundings. The patch is never taken anew: what walks through
it would be followed.

Points are (x, y) as complex numbers in pixels of the pictures given.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solveh_banded

from keen_horizon.core.motion.likeness import local_correlation

Gray = NDArray[np.uint8]
Floats = NDArray[np.float64]
Complex = NDArray[np.complex128]

NEAR = 1 / 24  # of the patch's reach, half a pixel of twelve, that it may lie from where it lay beside its surroundings
REMEMBERED = 31  # frames over whose median that is told
AROUND = 0.4  # of the patch's reach: how far around each pixel pictures are compared
AGREES = 0.5  # correlation around a pixel from which it belongs to the point's picture
LEAST_SEEN, WHOLE = 0.3, 0.85  # of the patch, to tell anything; to tell how it is turned as well
SURE = 0.7  # correlation of what is seen
MOST_TURNED = 0.1  # beside how its surroundings turned it
SETTLED = 10  # frames in which what moves by itself gives itself away
ITSELF, FAR = 0.95, 3.0  # the correlation of one that is followed elsewhere, and how many times too far away
STRIPED = 6.0  # times as steep across as along: what is followed by its looks slides along such edges, as a kerb
LEAST_NOISE_PX = 0.03  # of a place that is registered: interpolation alone leaves so much
UNLIKE = 3.0  # times that noise, since what is unlike is so over many pixels and frames together
LEAST_DRIFT_PX = 0.002  # a frame, beside its surroundings
_CRITERIA = (cv2.TERM_CRITERIA_COUNT + cv2.TERM_CRITERIA_EPS, 40, 1e-4)


class StandingFollower:
    """Follows a point from the picture it was set on through the ones given next, in either direction, for as long as
    it does not turn out to move by itself: then it `moves`.
    """

    def __init__(self, picture: Gray, point: complex, reach: int) -> None:
        side = 2 * reach + 1
        self.reach, self.moves = reach, False
        self.patch: Gray = np.asarray(cv2.getRectSubPix(picture, (side, side), (point.real, point.imag)))
        self._slopes = np.stack(np.gradient(cv2.GaussianBlur(self.patch.astype(np.float64), (0, 0), 1.0))[::-1], -1)
        self._warp = np.eye(2)
        self._anchors, self._beside = [point], [0j]
        self._noise, self._correlation = [LEAST_NOISE_PX], [1.0]

    @property
    def settled(self) -> bool:
        """Whether it has been followed for so long that it would have given itself away."""
        return len(self._anchors) > SETTLED

    def follow(self, picture: Gray, carry: Callable[[complex], complex], other: tuple[complex, float]) -> None:
        """Look for the point in the next picture.

        `carry` takes places of the picture before along with what stands still; `other` is where the point is found by
        its looks alone, and the correlation: at the beginning, what moves by itself is told by that.
        """
        anchor = self._anchors[-1]
        turn = carry(anchor + 1) - carry(anchor)
        self._warp = np.array([[turn.real, -turn.imag], [turn.imag, turn.real]]) @ self._warp
        self._anchors.append(carry(anchor))
        beside = self._awaited()
        awaited, near = self._anchors[-1] + beside, NEAR * self.reach
        elsewhere, correlation = other
        if not self.settled and correlation >= ITSELF and self._told(elsewhere - awaited) > FAR * near:
            self.moves = True
        seen, noise, found = 0.0, np.inf, self._registered(picture, awaited)
        if found is not None and abs(found[0]) <= near:
            moved, seen, noise, self._warp = found
            beside += moved
        elif found is not None and abs(found[0]) <= FAR * near:
            seen = found[1]  # it is there, but how far beside cannot be told by such a picture
        self._beside.append(beside)
        self._noise.append(noise)
        self._correlation.append(seen)

    def trail(self) -> tuple[Complex, Floats]:
        """The point in all pictures (N,), and the correlation of what was seen of it, 0 where it was hidden."""
        beside = _smoothed(np.array(self._beside), np.array(self._noise))
        return np.array(self._anchors) + beside, np.array(self._correlation)

    def _told(self, away: complex) -> float:
        """How far, px, something that is found so far away is surely away: of a stripe's picture, across it."""
        steep = self._slopes.reshape(-1, 2)
        (weak, strong), directions = np.linalg.eigh(steep.T @ steep)
        if strong < STRIPED * weak:
            return abs(away)
        return float(abs(directions[:, 1] @ np.linalg.solve(self._warp, [away.real, away.imag])))

    def _awaited(self) -> complex:
        """How far beside its surroundings it usually lies."""
        known = [at for at, noise in zip(self._beside, self._noise, strict=True) if np.isfinite(noise)][-REMEMBERED:]
        return complex(np.median(np.real(known)), np.median(np.imag(known)))

    def _registered(self, picture: Gray, guess: complex) -> tuple[complex, float, float, Floats] | None:
        """How far from a guess, the correlation, how exactly (px), and how it is turned (2, 2).

        None where too little is seen, or it does not hold.
        """
        laid = self._laid(picture, guess)
        seen = self._seen(laid)
        share = float(seen.mean())
        if share < LEAST_SEEN:
            return None
        found = self._shifted(laid, seen)
        if found is None:
            return None
        correlation, warp = found
        if share >= WHOLE:
            correlation, warp = self._turned(laid, seen, correlation, warp)
        if correlation < SURE:
            return None
        turned = warp[:, :2].astype(np.float64)
        middle = np.full(2, self.reach)
        moved = complex(*(self._warp @ (turned @ middle + warp[:, 2] - middle)))
        return moved, correlation, self._noise_of(laid, seen, correlation), self._warp @ turned

    def _shifted(self, laid: Gray, seen: Gray) -> tuple[float, NDArray[np.float32]] | None:
        """The correlation, and how what is seen lies beside the patch (2, 3), shifted alone; None where that fails."""
        start = np.eye(2, 3, dtype=np.float32)
        try:
            correlation, warp = cv2.findTransformECC(
                self.patch, laid, start, cv2.MOTION_TRANSLATION, _CRITERIA, seen, 5
            )
        except cv2.error:  # it did not converge
            return None
        return float(correlation), np.asarray(warp, np.float32)

    def _turned(
        self, laid: Gray, seen: Gray, correlation: float, shifted: NDArray[np.float32]
    ) -> tuple[float, NDArray[np.float32]]:
        """The same, turned as well, where that is more alike."""
        try:
            better, warp = cv2.findTransformECC(self.patch, laid, shifted.copy(), cv2.MOTION_AFFINE, _CRITERIA, seen, 5)
        except cv2.error:  # it did not converge
            return correlation, shifted
        sane = np.abs(warp[:, :2] - np.eye(2)).max() <= MOST_TURNED
        return (
            (float(better), np.asarray(warp, np.float32)) if sane and better > correlation else (correlation, shifted)
        )

    def _laid(self, picture: Gray, guess: complex) -> Gray:
        """A picture laid on the patch, were the point where it is awaited."""
        warp = np.column_stack([self._warp, [guess.real, guess.imag] - self._warp @ np.full(2, self.reach)])
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        size = self.patch.shape[::-1]
        return np.asarray(cv2.warpAffine(picture, warp, size, flags=flags, borderMode=cv2.BORDER_REPLICATE))

    def _seen(self, laid: Gray) -> Gray:
        """1 where a picture laid on the patch goes with it around (rows, columns)."""
        around = 2 * round(AROUND * self.reach) + 1
        return np.asarray(local_correlation(self.patch, laid, around) > AGREES, np.uint8)

    def _noise_of(self, laid: Gray, seen: Gray, correlation: float) -> float:
        """How exactly a shift is told, px: what is unlike, by how steep the patch is (Cramér and Rao's bound)."""
        there = seen > 0
        steep = self._slopes[there]
        unlike = float(laid[there].astype(np.float64).var()) * (1 - correlation**2)
        told = steep.T @ steep + 1e-6 * np.eye(2)
        return float(UNLIKE * np.sqrt(LEAST_NOISE_PX**2 + unlike * np.trace(np.linalg.inv(told)) / 2) / seen.mean())


def _smoothed(beside: Complex, noise: Floats) -> Complex:
    """Places (N,) that wander, told with noise (N,), infinite where nothing is: the likeliest way, a Kalman smoother's.

    How far they wander is what they move from frame to frame beyond the noise.
    """
    both = np.isfinite(noise[1:]) & np.isfinite(noise[:-1])
    steps = np.abs(np.diff(beside)[both]) ** 2 / 2 - noise[1:][both] ** 2 - noise[:-1][both] ** 2
    drift = max(LEAST_DRIFT_PX**2, float(steps.mean())) if both.any() else LEAST_DRIFT_PX**2
    weight = 1 / noise**2
    bands = np.zeros((2, len(beside)))
    bands[0] = weight
    bands[0, 1:] += 1 / drift
    bands[0, :-1] += 1 / drift
    bands[1, :-1] = -1 / drift
    right = np.column_stack([weight * beside.real, weight * beside.imag])
    found = solveh_banded(bands[: min(2, len(beside))], right, lower=True)
    return np.asarray(found[:, 0] + 1j * found[:, 1])
