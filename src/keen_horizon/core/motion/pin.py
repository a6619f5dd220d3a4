"""Following one point of a subject to a fraction of a pixel, always against its picture at a set frame.

From the set frame on, each frame is registered to the set frame's patch with an affine warp by maximising
the enhanced correlation coefficient (Evangelidis & Psarakis 2008): comparing with one patch, errors do
not add up along the way. Lucas-Kanade from the frame before gives the start. When the subject has
changed so much that the correlation sinks, the last good frame's patch takes over, once per change. A
point is lost where nothing correlates; it is looked for again near where it would be.

Points are (x, y) as complex numbers in pixels of the pictures given.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.similarity import as_points
from keen_horizon.core.motion.standing import StandingFollower

Gray = NDArray[np.uint8]
Floats = NDArray[np.float64]
Carry = Callable[[int, complex], complex]

LOST_BELOW = 0.7
RENEW_BELOW = 0.9
_CRITERIA = (cv2.TERM_CRITERIA_COUNT + cv2.TERM_CRITERIA_EPS, 40, 1e-4)


@dataclass(frozen=True)
class Trail:
    """Where a point was found, (N,) complex, and how well, (N,) correlation 0 ... 1; 0 marks lost frames."""

    points: NDArray[np.complex128]
    confidence: Floats

    def __getitem__(self, frames: slice) -> Trail:
        return Trail(self.points[frames], self.confidence[frames])


@dataclass(frozen=True)
class PinTrack:
    """A point's trail over frames from clip number `first`, display pixels, whole though parts were lost."""

    first: int
    trail: Trail

    def part(self, first: int, last: int) -> PinTrack:
        """The track of frames `first` ... `last`, clip numbering, inclusive."""
        return PinTrack(first, self.trail[first - self.first : last - self.first + 1])

    def to_json(self) -> dict[str, Any]:
        """Confidence, and places in display pixels, for every frame."""
        return {
            "confidence": self.trail.confidence.round(3).tolist(),
            "points": as_points(self.trail.points).round(2).tolist(),
        }

    def save(self, path: Path) -> None:
        """Write as NumPy's .npz."""
        np.savez(path, first=self.first, points=self.trail.points, confidence=self.trail.confidence)

    @staticmethod
    def load(path: Path) -> PinTrack:
        """Read what `save` wrote."""
        with np.load(path, allow_pickle=False) as data:
            return PinTrack(int(data["first"]), Trail(data["points"], data["confidence"]))


class PointFollower:
    """Follows a point from the picture it was set on through the ones given next, in either direction."""

    def __init__(self, picture: Gray, point: complex) -> None:
        self.reach = patch_reach(picture.shape)
        self.point, self.velocity = point, 0j
        self.previous = picture
        self.warp: Floats = np.eye(2)
        self.steady = 1.0
        self.lost = 0
        self.patch: Gray = self._take_patch(picture)

    def follow(self, picture: Gray, expected: complex | None = None) -> tuple[complex, float]:
        """The point in the next picture and its correlation; 0 when lost, with the place expected.

        `expected` is where the motion of the surroundings would carry it, from where it was last.
        """
        found = None if self.lost else self._register(picture, self._flow(picture))
        if found is None and expected is not None:
            self.point = expected
        found = found or self._register(picture, self._search(picture))
        self.previous, before = picture, self.previous
        if found is None or (self.lost and found[2] < RENEW_BELOW):
            self.velocity, self.lost = 0j, self.lost + 1
            return self.point, 0.0
        point, warp, correlation = found
        self.lost = 0
        if correlation < RENEW_BELOW and self.steady >= RENEW_BELOW:
            self.patch = self._take_patch(before)
            renewed = self._register(picture, point)
            if renewed is not None and renewed[2] > correlation:
                point, warp, correlation = renewed
        self.velocity, self.point, self.warp, self.steady = point - self.point, point, warp, correlation
        return point, correlation

    def _take_patch(self, picture: Gray) -> Gray:
        """The patch around the point, which stands for it from now on."""
        side = 2 * self.reach + 1
        self.warp, self.steady = np.eye(2), 1.0
        return np.asarray(cv2.getRectSubPix(picture, (side, side), (self.point.real, self.point.imag)))

    def _flow(self, picture: Gray) -> complex:
        """Where the point went from the picture before: Lucas-Kanade, or straight on where that fails."""
        at = np.array([[[self.point.real, self.point.imag]]], np.float32)
        guess = at + np.array([self.velocity.real, self.velocity.imag], np.float32)
        side = 2 * (self.reach // 2) + 1
        there, found, _ = cv2.calcOpticalFlowPyrLK(
            self.previous, picture, at, guess, winSize=(side, side), maxLevel=3, flags=cv2.OPTFLOW_USE_INITIAL_FLOW
        )
        if not found[0, 0]:
            return self.point + self.velocity
        return complex(*there[0, 0])

    def _search(self, picture: Gray) -> complex | None:
        """The best match of the patch, warped as it was last seen, within three patches' reach or, once lost, five."""
        reach = self.reach
        size = 2 * reach + 1
        centred = np.column_stack([self.warp, (reach - self.warp @ np.full(2, reach))])
        seen = cv2.warpAffine(self.patch, centred, (size, size), borderMode=cv2.BORDER_REPLICATE)
        seen = seen[reach // 2 : -(reach // 2), reach // 2 : -(reach // 2)]
        window = (5 if self.lost else 3) * size
        part = cv2.getRectSubPix(picture, (window, window), (self.point.real, self.point.imag))
        scores = cv2.matchTemplate(part, seen, cv2.TM_CCOEFF_NORMED)
        _, best, _, place = cv2.minMaxLoc(scores)
        if best < LOST_BELOW:
            return None
        middle = complex(*place) + (seen.shape[0] - 1) / 2 * (1 + 1j)
        return complex(self.point + middle - (window - 1) / 2 * (1 + 1j))

    def _register(self, picture: Gray, guess: complex | None) -> tuple[complex, Floats, float] | None:
        """Point, warp (2, 2) picture_from_patch and correlation, from a guess; None where it does not hold."""
        if guess is None:
            return None
        height, width = picture.shape
        margin = self.reach // 2
        if not (margin <= guess.real < width - margin and margin <= guess.imag < height - margin):
            return None
        room = 2 * self.reach
        left, top = round(guess.real) - room, round(guess.imag) - room
        part = cv2.getRectSubPix(
            picture, (2 * room + 1, 2 * room + 1), (float(round(guess.real)), float(round(guess.imag)))
        )
        at = np.array([guess.real - left, guess.imag - top])
        shift = at - self.warp @ np.full(2, self.reach)
        start = np.column_stack([self.warp, shift]).astype(np.float32)
        try:
            correlation, found = cv2.findTransformECC(self.patch, part, start, cv2.MOTION_AFFINE, _CRITERIA, None, 5)
        except cv2.error:  # it did not converge
            return None
        warp = found[:, :2].astype(np.float64)
        middle = warp @ np.full(2, self.reach) + found[:, 2]
        point = complex(*(middle + (left, top)))
        sane = 0.2 < abs(np.linalg.det(warp)) < 5 and abs(point - guess) < self.reach
        return (point, warp, float(correlation)) if sane and correlation >= LOST_BELOW else None


def patch_reach(shape: tuple[int, ...]) -> int:
    """Half the side of the patch in pixels, a fortieth of the longer side of the picture."""
    return max(12, round(max(shape[:2]) / 40))


def follow_point(pictures: Iterable[Gray], point: complex, carry: Carry | None = None, stands: bool = False) -> Trail:
    """A point's trail through pictures of which the first is the one it was set on.

    `carry` takes a place of the picture before to the picture whose place in the row of them is given, as what stands
    still goes; `stands` says that the point is taken to do so, until it is seen to move.
    """
    pictures = iter(pictures)
    begin = next(pictures)
    follower, standing = PointFollower(begin, point), StandingFollower(begin, point, patch_reach(begin.shape))
    found = [(point, 1.0)]
    for number, picture in enumerate(pictures, 1):
        stands = stands and carry is not None and not standing.moves
        if not (stands and standing.settled):
            found.append(follower.follow(picture, carry(number, follower.point) if carry else None))
        if carry and stands:
            standing.follow(picture, partial(carry, number), found[-1])
    if stands and not standing.moves:
        return Trail(*standing.trail())
    return Trail(np.array([each for each, _ in found]), np.array([confidence for _, confidence in found]))


def between_marks(forward: Trail, backward: Trail) -> Trail:
    """One trail from two that run between the same marks, (N,) each, both in forward order.

    Where both hold, they are blended by nearness to the mark each started from, so that no step is seen.
    """
    share = np.linspace(1, 0, len(forward.points)) if len(forward.points) > 1 else np.ones(1)
    ahead = share * (forward.confidence > 0)
    back = (1 - share) * (backward.confidence > 0)
    back[(ahead + back) == 0] = backward.confidence[(ahead + back) == 0] > 0
    total = ahead + back
    known = total > 0
    weight = np.divide(ahead, total, out=np.ones_like(total), where=known)
    points = weight * forward.points + (1 - weight) * backward.points
    confidence = np.where(known, weight * forward.confidence + (1 - weight) * backward.confidence, 0.0)
    return Trail(points, confidence)


def bridged(trail: Trail) -> Trail:
    """The same trail with lost stretches interpolated between the frames beside them, still marked as lost."""
    known = trail.confidence > 0
    if known.all() or not known.any():
        return trail
    index = np.arange(len(known))
    x = np.interp(index, index[known], trail.points.real[known])
    y = np.interp(index, index[known], trail.points.imag[known])
    return Trail(x + 1j * y, trail.confidence)
