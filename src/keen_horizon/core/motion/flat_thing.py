"""Following a flat thing, by four corners, through the straightened picture.

From the frame its corners were set on, each frame is registered to that frame's texture of the thing with a homography
by maximising the enhanced correlation coefficient (Evangelidis & Psarakis 2008): comparing with one texture, errors do
not add up along the way. Lucas-Kanade between neighbouring frames, both seen where the thing was last, gives the
start. What passes in front does not count: only what goes with the texture around it is compared, and then again. The
thing is lost where too little does, and looked for again where it was last. The texture is never taken anew: what
walks through it would be followed.

A thing lies where a homography (3, 3) says, from its texture's pixels to straightened pixels. Pictures come as
functions, so that lens and picture are sampled once, where the thing is.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size, transform
from keen_horizon.core.motion.likeness import local_correlation
from keen_horizon.core.motion.pin import Trail, between_marks, bridged

Floats = NDArray[np.float64]
Gray = NDArray[np.uint8]
Carry = Callable[[int, Floats], Floats]
Seen = Callable[[Floats], Gray]  # a frame's luma (0 where it has none) at straightened points (rows, columns, 2)

LONGEST_SIDE = 320  # of the texture, pixels
SHORTEST_SIDE = 24
MARGIN = 0.3  # of the texture's side, looked at around it
MOST_FEATURES = 200
LEAST_FEATURES = 8
WITHIN_PX = 2.0
SURE = 0.8  # correlation below which a thing is lost
SURE_AGAIN = 0.9  # correlation from which a lost thing is found again
SOFTNESS_PX = 1.0
ROUNDS = 2
AROUND_PX = 21
AGREES = 0.5  # correlation around a pixel, from which it belongs to the thing and not to what passes before it
LEAST_AGREEING = 0.35
EVENED_PX = 12.0
LEAST_CONTRAST = 4.0  # grey levels, below which it is noise
_CRITERIA = (cv2.TERM_CRITERIA_COUNT + cv2.TERM_CRITERIA_EPS, 50, 1e-5)


@dataclass(frozen=True)
class PlaneTrack:
    """Corners (N, 4), complex source pixels, of frames from clip number `first`, and how well each frame was found."""

    first: int
    corners: NDArray[np.complex128]
    confidence: Floats

    def part(self, first: int, last: int) -> PlaneTrack:
        """The track of frames `first` ... `last`, clip numbering, inclusive."""
        rows = slice(first - self.first, last - self.first + 1)
        return PlaneTrack(first, self.corners[rows], self.confidence[rows])

    def save(self, path: Path) -> None:
        """Write as NumPy's .npz."""
        np.savez(path, first=self.first, corners=self.corners, confidence=self.confidence)

    @staticmethod
    def load(path: Path) -> PlaneTrack:
        """Read what `save` wrote."""
        with np.load(path, allow_pickle=False) as data:
            return PlaneTrack(int(data["first"]), data["corners"], data["confidence"])


class FlatThingFollower:
    """Follows a thing from the frame its `corners` (4, 2), straightened pixels, were set on, in either direction."""

    def __init__(self, seen: Seen, corners: Floats) -> None:
        width, height = _texture_size(corners)
        self.rectangle = Size(width, height).corners()
        self.homography = _homography(self.rectangle, corners)
        self.margin = np.ceil(np.array([width, height]) * MARGIN)
        rows, columns = height + 2 * int(self.margin[1]), width + 2 * int(self.margin[0])
        self.grid = np.stack(np.meshgrid(np.arange(columns), np.arange(rows)), -1) - self.margin
        left, top = self.margin.astype(int)
        self.inner = (slice(top, -top), slice(left, -left))
        self.texture = self._look(seen)[self.inner]
        self.previous, self.last_seen = seen, self.homography
        self.lost = False

    @property
    def corners(self) -> Floats:
        """Where the corners (4, 2) are, or would be."""
        return transform(self.homography, self.rectangle)

    def follow(self, seen: Seen, expected: Floats | None = None) -> tuple[Floats, float]:
        """Corners (4, 2) in the next frame and the correlation; 0 when lost, with where they are expected.

        That is where they were last, or where the motion of the surroundings would carry them.
        """
        if expected is not None and _sound(expected):
            self.homography = _homography(self.rectangle, expected)
        before, now = self._look(self.previous, self.last_seen), self._look(seen)
        moved = self._flow(before, now)
        found = self._registered(seen, self.homography @ moved) or self._registered(seen, self.homography)
        if found is None or (self.lost and found[1] < SURE_AGAIN):
            self.lost = True
            return self.corners, 0.0
        homography, correlation = found
        self.homography = self.last_seen = homography
        self.previous, self.lost = seen, False
        return self.corners, correlation

    def _look(self, seen: Seen, homography: Floats | None = None) -> Gray:
        """The frame where the thing was last, as a texture with its margin, evened out before its edges are cut off."""
        points = self.grid.reshape(-1, 2).astype(np.float64)
        places = transform(self.homography if homography is None else homography, points)
        return _evened(seen(places.reshape(self.grid.shape)))

    def _flow(self, before: Gray, now: Gray) -> Floats:
        """How the texture moved between two looks, in its own pixels; the identity where it is not told."""
        mask = np.zeros(before.shape, np.uint8)
        mask[self.inner] = 255
        features = cv2.goodFeaturesToTrack(before, MOST_FEATURES, 0.01, 5, mask=mask)
        if features is None or len(features) < LEAST_FEATURES:
            return np.eye(3)
        there, status, _ = cv2.calcOpticalFlowPyrLK(before, now, features, None, winSize=(15, 15), maxLevel=3)
        told = status[:, 0] > 0
        if told.sum() < LEAST_FEATURES:
            return np.eye(3)
        source, target = (points[told, 0] - self.margin for points in (features, there))
        found, _ = cv2.findHomography(source, target, cv2.RANSAC, WITHIN_PX)
        return np.eye(3) if found is None else np.asarray(found, np.float64)

    def _registered(self, seen: Seen, guess: Floats) -> tuple[Floats, float] | None:
        """The thing and correlation from a guess; None where it does not hold."""
        if not _sound(transform(guess, self.rectangle)):
            return None
        look = self._look(seen, guess)
        warp = np.array([[1, 0, self.margin[0]], [0, 1, self.margin[1]], [0, 0, 1]], np.float32)
        correlation = 0.0
        for _ in range(ROUNDS):
            agreeing = self._agreeing(look, warp)
            if agreeing.mean() < LEAST_AGREEING:  # not near enough yet to tell
                agreeing[:] = 1
            told = cv2.warpPerspective(agreeing, warp, look.shape[::-1], flags=cv2.INTER_NEAREST) & (look > 0)
            try:
                correlation, warp = cv2.findTransformECC(
                    self.texture, look, warp, cv2.MOTION_HOMOGRAPHY, _CRITERIA, told.astype(np.uint8), 1
                )
            except cv2.error:  # it did not converge
                return None
        if self._agreeing(look, warp).mean() < LEAST_AGREEING:
            return None
        without_margin = np.array([[1, 0, -self.margin[0]], [0, 1, -self.margin[1]], [0, 0, 1]])
        homography = guess @ without_margin @ warp.astype(np.float64)
        homography = np.asarray(homography / homography[2, 2])
        moved = np.abs(transform(homography, self.rectangle) - transform(guess, self.rectangle)).max()
        near = moved < MARGIN * np.abs(np.ptp(transform(guess, self.rectangle), 0)).max()
        return (homography, float(correlation)) if near and correlation >= SURE else None

    def _agreeing(self, look: Gray, warp: NDArray[np.float32]) -> Gray:
        """1 where a look, aligned, goes with the texture around (rows, columns)."""
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        aligned = cv2.warpPerspective(look, warp, self.texture.shape[::-1], flags=flags)
        return np.asarray((local_correlation(self.texture, aligned, AROUND_PX) > AGREES) & (aligned > 0), np.uint8)


def follow_flat_thing(frames: Iterable[Seen], corners: Floats, carry: Carry | None = None) -> tuple[Floats, Floats]:
    """Corners (N, 4, 2) through frames of which the first is the one they were set on, and confidences (N,).

    `carry` takes corners in the frame before to the frame whose place in the row of them is given.
    """
    frames = iter(frames)
    follower = FlatThingFollower(next(frames), corners)
    found = [(corners, 1.0)]
    for number, seen in enumerate(frames, 1):
        found.append(follower.follow(seen, carry(number, follower.corners) if carry else None))
    return np.array([each for each, _ in found]), np.array([confidence for _, confidence in found])


def blended(forward: tuple[Floats, Floats], backward: tuple[Floats, Floats]) -> tuple[Floats, Floats]:
    """One trail from two between the same marks, both in forward order, as `between_marks` does for a point."""
    corners = [
        between_marks(*(Trail(places[:, i, 0] + 1j * places[:, i, 1], known) for places, known in (forward, backward)))
        for i in range(4)
    ]
    points = np.stack([trail.points for trail in corners], 1)
    return np.stack([points.real, points.imag], -1), corners[0].confidence


def whole(
    corners: NDArray[np.complex128], confidence: Floats, fill: Callable[[Trail], Trail] = bridged
) -> NDArray[np.complex128]:
    """Corners (N, 4) with lost stretches filled, straight on between the frames beside them unless told how."""
    return np.stack([fill(Trail(corners[:, i], confidence)).points for i in range(4)], 1)


def _evened(look: Gray) -> Gray:
    """Softened, and of like contrast everywhere, so that every part counts alike; 0 stays 0."""
    soft = cv2.GaussianBlur(look.astype(np.float32), (0, 0), SOFTNESS_PX)
    mean = cv2.GaussianBlur(soft, (0, 0), EVENED_PX)
    spread = np.sqrt(np.maximum(cv2.GaussianBlur(soft * soft, (0, 0), EVENED_PX) - mean * mean, 0))
    even = np.clip(128 + 48 * (soft - mean) / (spread + LEAST_CONTRAST), 1, 255)
    return np.where(look > 0, even, 0).astype(np.uint8)


def _texture_size(corners: Floats) -> tuple[int, int]:
    """Width and height of the texture: as large as the thing is seen, within bounds."""
    sides = np.hypot(*(np.roll(corners, -1, 0) - corners).T)
    width, height = max(sides[0], sides[2]), max(sides[1], sides[3])
    scale = min(1.0, LONGEST_SIDE / max(width, height))
    return max(SHORTEST_SIDE, round(width * scale)), max(SHORTEST_SIDE, round(height * scale))


def _homography(rectangle: Floats, corners: Floats) -> Floats:
    found = cv2.getPerspectiveTransform(rectangle.astype(np.float32), corners.astype(np.float32))
    return np.asarray(found, np.float64)


def _sound(corners: Floats) -> bool:
    """Whether four corners still go round the same way and are not on top of each other."""
    sides = np.roll(corners, -1, 0) - corners
    crossed = sides[:, 0] * np.roll(sides[:, 1], -1) - sides[:, 1] * np.roll(sides[:, 0], -1)
    return bool(np.isfinite(corners).all() and (crossed > 4.0).all())
