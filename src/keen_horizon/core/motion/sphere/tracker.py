"""Measuring a sphere: a stream of its luma planes in, a Measurement out whose points say how the camera turned.

As flat film is measured (see `motion.measure`), but on the faces of a cube: every frame is matched to the one before
and, against drift, to a key frame, whose points are looked for where the turn since then puts them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere, sphere_of
from keen_horizon.core.errors import MeasurementError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.levels import Levels
from keen_horizon.core.motion.living import FRESH_BELOW, FRESH_EVERY
from keen_horizon.core.motion.measure import BRIDGE_S, BRIDGE_SIGHT, CUT_DIFFERENCE, REPEAT_DIFFERENCE
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement, Uprights
from keen_horizon.core.motion.robust import MINIMUM_INLIERS
from keen_horizon.core.motion.sphere.edges import edge_faces, looked_for_edges, seen_edges
from keen_horizon.core.motion.sphere.faces import AXES, FOCAL, Faces, face_rays
from keen_horizon.core.motion.sphere.turns import agreed_turns
from keen_horizon.core.motion.tracking import Gray, Points, Tracks, follow, follow_nearby, spread_corners

Floats = NDArray[np.float64]
FacePoints = list[Points]

KEY_SIGHT = 0.45  # of its points in sight: less, and the key frame is made anew
MISSES = 5  # frames in a row that do not match the key frame
PER_CELL = 1  # corners: 500 all around tell turns as well as 1,000 do
MATCH_POINTS = 64
BRIDGED_RAD = 0.5 / FOCAL  # what agrees on a turn is the same: else any points agree on some turn
LEAST_SHARE = 0.25  # of a pair's points that agree, else what lies between may be a cut


@dataclass
class TurnQuality:
    """How well frames n and n + 1 could be matched."""

    tracked: int
    inliers: int
    residual: float
    cut: bool
    blind: bool
    repeated: bool


@dataclass(frozen=True)
class Found:
    """Rays (N, 3) in one frame and in another."""

    source: NDArray[np.float32]
    target: NDArray[np.float32]

    def part(self, rows: NDArray[np.bool_] | NDArray[np.intp]) -> Found:
        """Some of them."""
        return Found(self.source[rows], self.target[rows])


@dataclass
class SphereKey:
    """A frame that later ones are matched to: its faces, their points, and the turn (3, 3) to the last frame; the
    `last` before it went out of sight at once.
    """

    number: int
    faces: NDArray[np.uint8]
    points: FacePoints
    turn: Floats
    misses: int = 0
    last: int = 0

    @property
    def count(self) -> int:
        """How many points it has."""
        return sum(map(len, self.points))


@dataclass
class SphereTracker:
    """The state of a measuring run; feed it frames in order with `add`."""

    size: Size
    sphere: Sphere
    faces: Faces
    edge_faces: Faces
    times: list[float] = field(default_factory=list)
    quality: list[TurnQuality] = field(default_factory=list)
    pairs: list[Found] = field(default_factory=list)
    believed: list[NDArray[np.bool_]] = field(default_factory=list)
    links: list[tuple[int, int]] = field(default_factory=list)
    matched: list[Found] = field(default_factory=list)
    edges: list[tuple[int, NDArray[np.float32]]] = field(default_factory=list)
    previous: NDArray[np.uint8] | None = None
    small_before: Gray | None = None
    followed: FacePoints = field(default_factory=list)
    fresh: int = 0
    key: SphereKey | None = None
    anchor: SphereKey | None = None

    @staticmethod
    def start(size: Size) -> SphereTracker:
        """A fresh run for spheres of upright size `size`."""
        sphere = sphere_of(size)
        return SphereTracker(size, sphere, Faces.of(sphere), edge_faces(sphere))

    @property
    def count(self) -> int:
        """Frames taken so far."""
        return len(self.times)

    def small(self, luma: Gray) -> Gray:
        """A luma plane at the size that is analysed."""
        return self.faces.small(luma)

    def add(self, luma: Gray, time: float, small: Gray | None = None) -> None:
        """Take the next frame's luma plane (rows, columns), and its `small` copy where that is made already."""
        small = self.small(luma) if small is None else small
        pictures = self.faces.pictures(small)
        if self.previous is not None and self.small_before is not None:
            turn = self._pair(self.previous, pictures, self.small_before, small)
            if not self._bridged(pictures, time):
                self._match_key(pictures, turn)
        if self.key is None:
            self._new_key(pictures)
        if looked_for_edges(self.count):
            self.edges.append((self.count, seen_edges(luma, self.edge_faces)))
        self.previous, self.small_before = pictures, small
        self.times.append(time)

    def _pair(self, before: NDArray[np.uint8], now: NDArray[np.uint8], small_before: Gray, small: Gray) -> Floats:
        """Match a frame to the one before; how far it turned (3, 3), as if it stood where that is not known."""
        points = self._points(before)
        tracks = [follow(before[face], now[face], points[face]) for face in range(len(AXES))]
        self.followed = [self.faces.own(face, track.target) for face, track in enumerate(tracks)]
        found = _joined(
            [Found(_rays(face, track.source), _rays(face, track.target)) for face, track in enumerate(tracks)]
        )
        offered = sum(map(len, points))
        turn, agree, residual = _one_turn(found)
        known = int(agree.sum()) >= MINIMUM_INLIERS
        difference = float(np.abs(_thumb(small_before) - _thumb(small)).mean())
        cut = (not known or agree.sum() < LEAST_SHARE * offered) and difference > CUT_DIFFERENCE
        known = known and not cut
        repeated = bool(cv2.absdiff(small_before, small).mean() < REPEAT_DIFFERENCE)
        pixels = residual * self.sphere.px_per_rad if known else 0.0
        self.quality.append(TurnQuality(offered, int(agree.sum()), pixels, cut, not known and not cut, repeated))
        self.pairs.append(found)
        self.believed.append(agree & known)
        if cut:
            self.anchor = self.anchor or (self.key and replace(self.key, last=self.count - 1))
            self.key = None
        return turn if known else np.eye(3)

    def _bridged(self, now: NDArray[np.uint8], time: float) -> bool:
        """Where what was seen before a seeming cut is seen again soon, it was none: a flash, or something close by."""
        anchor = self.anchor
        if anchor is None:
            return False
        if time - self.times[anchor.last] > BRIDGE_S:
            self.anchor = None
            return False
        found = self._looked_for(anchor, now, follow)
        turned, agree, residual = _one_turn(found)
        seen = int(agree.sum())
        if seen < max(MINIMUM_INLIERS, BRIDGE_SIGHT * anchor.count) or residual > BRIDGED_RAD:
            return False
        self._link(anchor.number, found, agree)
        for quality in self.quality[anchor.last :]:
            if quality.cut:
                quality.cut, quality.blind = False, True
        self.key, self.anchor = replace(anchor, turn=turned, misses=0), None
        return True

    def _points(self, before: NDArray[np.uint8]) -> FacePoints:
        """Points to follow on: those just followed, or fresh ones every few frames and after losses."""
        if self.count % FRESH_EVERY and sum(map(len, self.followed)) > FRESH_BELOW * self.fresh:
            return self.followed
        points = self._corners(before)
        self.fresh = sum(map(len, points))
        return points

    def _corners(self, pictures: NDArray[np.uint8]) -> FacePoints:
        return [self.faces.own(face, spread_corners(picture, PER_CELL)) for face, picture in enumerate(pictures)]

    def _match_key(self, now: NDArray[np.uint8], turn: Floats) -> None:
        """Match a frame to the key frame, which is made anew when too little of it is in sight."""
        key = self.key
        if key is None:
            return
        key.turn = turn @ key.turn
        found = self._looked_for(key, now)
        turned, agree, _ = _one_turn(found)
        seen = int(agree.sum())
        if seen < max(MINIMUM_INLIERS, LEAST_SHARE * len(found.source)):
            key.misses += 1
            if key.misses > MISSES:
                self._new_key(now)
            return
        key.misses, key.turn = 0, turned
        if key.number != self.count - 1:
            self._link(key.number, found, agree)
        if seen < KEY_SIGHT * key.count:
            self._new_key(now)

    def _link(self, source: int, found: Found, agree: NDArray[np.bool_]) -> None:
        """Keep a match of an earlier frame to this one."""
        kept = np.flatnonzero(agree)
        self.links.append((source, self.count))
        self.matched.append(found.part(kept[:: 1 + len(kept) // (4 * MATCH_POINTS)]))

    def _looked_for(
        self,
        key: SphereKey,
        now: NDArray[np.uint8],
        follow_from: Callable[[Gray, Gray, Points], Tracks] = follow_nearby,
    ) -> Found:
        """A key frame's points in a later frame, which is turned as the key frame was first."""
        pictures = self.faces.turned(now, key.turn)
        parts = []
        for face, points in enumerate(key.points):
            tracks = follow_from(key.faces[face], pictures[face], points)
            there = face_rays(face, tracks.target) @ key.turn.T
            parts.append(Found(_rays(face, tracks.source), there.astype(np.float32)))
        return _joined(parts)

    def _new_key(self, pictures: NDArray[np.uint8]) -> None:
        self.key = SphereKey(self.count, pictures, self._corners(pictures), np.eye(3))

    def finish(self, first: int) -> Measurement:
        """The measurement of frames from clip number `first`."""
        if self.count == 0:
            raise MeasurementError("There was no frame to measure; widen the range.")
        cut, blind, repeated = (
            np.array([getattr(q, name) for q in self.quality], np.bool_) for name in ("cut", "blind", "repeated")
        )
        still = Similarities.identity(self.count)
        frames = np.array(self.links, np.int64).reshape(-1, 2)
        matches = Matches(frames, _starts(self.matched), *self._places(self.matched))
        points, moved = self._places(self.pairs)
        return Measurement(
            size=self.size, first=first, times=np.array(self.times), pairs=Similarities.identity(self.count - 1),
            poses=still, tilted_poses=still, tilts=np.zeros(self.count, np.complex128),
            levels=Levels.unknown(self.count),
            tracked=np.array([q.tracked for q in self.quality], np.int32),
            inliers=np.array([q.inliers for q in self.quality], np.int32),
            residual=np.array([q.residual for q in self.quality], np.float64),
            cut=cut, blind=blind, repeated=repeated,
            evidence=Evidence(
                _starts(self.pairs), points, np.concatenate([*self.believed, np.zeros(0, np.bool_)]), moved, matches,
            ),
            sphere=True, uprights=_uprights(self.edges),
        )  # fmt: skip

    def _places(self, parts: list[Found]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Where rays lie in the pictures (P, 2), source and target of all parts."""
        none = np.zeros((0, 2), np.float32)
        source, target = (
            [np.asarray(self.sphere.points(rays.astype(np.float64)), np.float32) for rays in all_rays]
            for all_rays in ([part.source for part in parts], [part.target for part in parts])
        )
        return np.concatenate([*source, none]), np.concatenate([*target, none])


def _joined(parts: list[Found]) -> Found:
    none = np.zeros((0, 3), np.float32)
    return Found(
        np.concatenate([*(part.source for part in parts), none]),
        np.concatenate([*(part.target for part in parts), none]),
    )


def _starts(parts: list[Found]) -> NDArray[np.int64]:
    return np.asarray(np.r_[0, np.cumsum([len(part.source) for part in parts])], np.int64)


def _rays(face: int, points: Points) -> NDArray[np.float32]:
    return face_rays(face, points).astype(np.float32)


def _one_turn(found: Found) -> tuple[Floats, NDArray[np.bool_], float]:
    """The turn (3, 3) that most rays agree on, which do (N,), and their error, rad RMS."""
    count = len(found.source)
    if count < MINIMUM_INLIERS:
        return np.eye(3), np.zeros(count, np.bool_), 0.0
    there = np.ones((1, count), np.bool_)
    turns, agree, errors = agreed_turns(found.source[None].astype(float), found.target[None].astype(float), there)
    return turns[0], agree[0], float(np.sqrt((errors[agree] ** 2).mean()))


def _uprights(seen: list[tuple[int, NDArray[np.float32]]]) -> Uprights:
    frames = [np.full(len(edges), at, np.int64) for at, edges in seen]
    edges = np.concatenate([edges for _, edges in seen])
    return Uprights(np.concatenate(frames), edges[:, :3], edges[:, 3:])


def _thumb(small: Gray) -> NDArray[np.float32]:
    return np.asarray(cv2.resize(small, (32, 16), interpolation=cv2.INTER_AREA), np.float32)
