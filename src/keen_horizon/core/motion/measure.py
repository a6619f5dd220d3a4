"""Measuring: a stream of luma planes in, a Measurement out, nothing of the stream kept.

Every frame is matched to the one before and, against drift, to a key frame: the frame is first
warped by the predicted pose so that only a small motion is left to find, and the match counts only if
it agrees with the prediction. A key frame serves while enough of its points are still in sight. The
pose graph joins all of it.

Where a pair shows nothing in common, the last good frame is kept for a while: if a later one matches it,
what lay between was a flash, a black stretch or an obstacle, and motion is carried across; if none does,
it was a cut.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MeasurementError, Stopped
from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.geometry.similarity import Similarities, as_points
from keen_horizon.core.motion.graph import Graph, bridged
from keen_horizon.core.motion.levels import EVERY, LevelSight, joined_levels, see_level
from keen_horizon.core.motion.links import Key, Link, PairQuality
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement, joined
from keen_horizon.core.motion.robust import Fit, fit_tracks
from keen_horizon.core.motion.tracking import Gray, Points, Tracks, follow, follow_nearby, spread_corners

ANALYSIS_SIDE = 640
FINE_SIDE = 960
KEY_GATE_PX = 1.5
KEY_SIGHT = 0.45
FRESH_EVERY, FRESH_BELOW = 4, 0.7
CUT_DIFFERENCE = 24.0
BRIDGE_S = 2.0
BRIDGE_SIGHT = 0.4
REPEAT_DIFFERENCE = 0.15
MATCH_POINTS = 64


@dataclass
class MotionTracker:
    """The state of a measuring run, in analysis pixels; feed it frames in order with `add`.

    `pairs` link every frame to the next, `links` frames to key frames; `points` and `believed` are the
    evidence; `anchor` is the last good frame while what follows it shows nothing in common.
    """

    size: Size
    analysis: Size
    previous: Gray | None = None
    times: list[float] = field(default_factory=list)
    pairs: list[Link] = field(default_factory=list)
    quality: list[PairQuality] = field(default_factory=list)
    points: list[NDArray[np.float32]] = field(default_factory=list)
    moved: list[NDArray[np.float32]] = field(default_factory=list)
    believed: list[NDArray[np.bool_]] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)
    matched: list[Tracks] = field(default_factory=list)
    sights: list[tuple[int, LevelSight]] = field(default_factory=list)
    anchor: Key | None = None
    key: Key | None = None
    key_z: complex = 1 + 0j
    key_t: complex = 0j
    key_tilt: complex = 0j
    key_misses: int = 0
    followed: Points = field(default_factory=lambda: np.zeros((0, 2), np.float32))
    fresh: int = 0

    @staticmethod
    def start(size: Size, fine: bool = False) -> MotionTracker:
        """A fresh run for frames of display size `size`."""
        side = FINE_SIDE if fine else ANALYSIS_SIDE
        longest = max(size.width, size.height)
        scale = min(1.0, side / longest)
        return MotionTracker(size, Size(max(16, round(size.width * scale)), max(16, round(size.height * scale))))

    @property
    def count(self) -> int:
        """Frames taken so far."""
        return len(self.times)

    def small(self, luma: Gray) -> Gray:
        """A luma plane at the size that is analysed."""
        return np.asarray(
            cv2.resize(luma, (self.analysis.width, self.analysis.height), interpolation=cv2.INTER_AREA), np.uint8
        )

    def add(self, luma: Gray, time: float, small: Gray | None = None) -> None:
        """Take the next frame's luma plane (rows, columns), and its `small` copy where that is made already."""
        gray = self.small(luma) if small is None else small
        if self.previous is not None:
            trouble = self._pair(self.previous, gray)
            self._bridge(self.previous, gray, time, trouble)
            self._match_key(gray)
        if self.key is None:
            self._new_key(gray)
        if self.count % EVERY == 0:
            self._see_level(gray, luma)
        self.previous = gray
        self.times.append(time)

    def _pair(self, previous: Gray, gray: Gray) -> bool:
        """Match a frame to the one before; true when they have nothing in common."""
        corners = self._points(previous)
        tracks = follow(previous, gray, corners)
        self.followed = tracks.target
        hint = (self.pairs[-1].z, self.pairs[-1].t) if self.pairs else None
        fit = fit_tracks(tracks, gray.shape, self.count, hint)
        cut = self._is_cut(previous, gray, fit, len(corners))
        known = fit is not None and not cut
        here = self.count
        if fit is not None and known:
            self.pairs.append(Link.of(here - 1, here, fit))
        else:
            self.pairs.append(Link.none(here - 1, here, self.analysis.centre))
        self.quality.append(
            PairQuality(
                len(corners), fit.count if fit else 0, fit.residual if fit else 0.0, cut, not known and not cut,
                bool(cv2.absdiff(previous, gray).mean() < REPEAT_DIFFERENCE),
            )
        )  # fmt: skip
        self.points.append(tracks.source)
        self.moved.append(tracks.target)
        self.believed.append(fit.inliers if fit else np.zeros(len(tracks), np.bool_))
        if cut:
            self.key = None
        return not known

    def _points(self, previous: Gray) -> Points:
        """Points to follow on: those just followed, or fresh ones every few frames and after losses."""
        if self.count % FRESH_EVERY and len(self.followed) > FRESH_BELOW * self.fresh:
            return self.followed
        corners = spread_corners(previous)
        self.fresh = len(corners)
        return corners

    def _is_cut(self, previous: Gray, gray: Gray, fit: Fit | None, offered: int) -> bool:
        if fit is not None and fit.count > 0.25 * offered:
            return False
        small = [cv2.resize(g, (32, 18), interpolation=cv2.INTER_AREA).astype(np.float32) for g in (previous, gray)]
        return bool(np.abs(small[0] - small[1]).mean() > CUT_DIFFERENCE)

    def _bridge(self, previous: Gray, gray: Gray, time: float, trouble: bool) -> None:
        """Keep the frame before trouble; carry motion across when a later one matches it."""
        if self.anchor is None:
            if trouble:
                corners = spread_corners(previous)
                self.anchor = Key(self.count - 1, previous, corners) if len(corners) else None
            return
        anchor = self.anchor
        if time - self.times[anchor.number] > BRIDGE_S:
            self.anchor = None
            return
        tracks = follow(anchor.gray, gray, anchor.corners)
        fit = fit_tracks(tracks, gray.shape, self.count)
        if fit is None or fit.count < BRIDGE_SIGHT * len(anchor.corners):
            return
        self._link(anchor.number, fit, tracks)
        for quality in self.quality[anchor.number :]:
            if quality.cut:
                quality.cut, quality.blind = False, True
        self.anchor = None

    def _match_key(self, gray: Gray) -> None:
        key = self.key
        if key is None:
            return
        pair = self.pairs[-1]
        self.key_tilt += np.conj(self.key_z) * pair.tilt
        self.key_z, self.key_t = pair.z * self.key_z, pair.z * self.key_t + pair.t
        match = self._match(key, gray, self.key_z, self.key_t)
        if match is None:
            self.key_misses += 1
        else:
            fit, seen, tracks = match
            self.key_misses = 0
            self.key_z, self.key_t, self.key_tilt = fit.z, fit.t, fit.tilt
            if key.number != self.count - 1:
                self._link(key.number, fit, tracks)
            if seen >= KEY_SIGHT:
                return
        if match is not None or self.key_misses > 5:
            self._new_key(gray)

    def _link(self, source: int, fit: Fit, tracks: Tracks) -> None:
        """Keep a match, and as many of its believed points as a lens needs to see it straightened."""
        self.links.append(Link.of(source, self.count, fit))
        kept = np.flatnonzero(fit.inliers)
        kept = kept[:: 1 + len(kept) // MATCH_POINTS]
        self.matched.append(Tracks(tracks.source[kept], tracks.target[kept]))

    def _match(self, key: Key, gray: Gray, z: complex, t: complex) -> tuple[Fit, float, Tracks] | None:
        """Match a frame to a key frame near the predicted motion; also the share of points in sight, and they."""
        predicted = np.array([[z.real, -z.imag, t.real], [z.imag, z.real, t.imag]])
        warped = cv2.warpAffine(
            gray,
            predicted,
            gray.shape[::-1],
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )
        tracks = follow_nearby(key.gray, warped, key.corners)
        if not len(tracks):
            return None
        found = tracks.target @ predicted[:, :2].T.astype(np.float32) + predicted[:, 2].astype(np.float32)
        height, width = gray.shape
        inside = ((found >= 4) & (found < (width - 4, height - 4))).all(-1)
        tracks = Tracks(tracks.source[inside], found[inside])
        fit = fit_tracks(tracks, gray.shape, self.count, (z, t), self.key_tilt)
        if fit is None or not fit.agrees(z, t, gray.shape, KEY_GATE_PX):
            return None
        return fit, fit.count / max(1, len(key.corners)), tracks

    def _new_key(self, gray: Gray) -> None:
        self.key = Key(self.count, gray, spread_corners(gray, per_cell=1))
        self.key_z, self.key_t, self.key_tilt, self.key_misses = 1 + 0j, 0j, 0j, 0

    def _see_level(self, gray: Gray, luma: Gray) -> None:
        before = self.sights[-1][1].angle if self.sights else 0.0
        sight = see_level(gray, before if abs(before) < np.pi / 4 else 0.0, luma)
        if sight is not None:
            self.sights.append((self.count, sight))

    def finish(self, first: int) -> Measurement:
        """Solve the pose graph and give the measurement of frames from clip number `first`."""
        if self.count == 0:
            raise MeasurementError("There was no frame to measure; widen the range.")
        cut, blind, repeated = (
            np.array([getattr(q, name) for q in self.quality], np.bool_) for name in ("cut", "blind", "repeated")
        )
        pairs = _motion([(pair.z, pair.t) for pair in self.pairs])
        every = [*self.pairs, *self.links]
        graph = Graph(
            np.array([link.source for link in every], np.intp),
            np.array([link.target for link in every], np.intp),
            _motion([(link.z, link.t) for link in every]),
            _motion([(link.tilted_z, link.tilted_t) for link in every]),
            joined([link.tilt for link in every]),
            joined([link.centre for link in every]),
        )
        posed = graph.posed(self.count, blind, self.analysis.half_diagonal / 2)
        display_from_analysis = resized(self.size, self.analysis)
        scale = float(display_from_analysis[0, 0])
        half = complex(display_from_analysis[0, 2], display_from_analysis[1, 2])
        return Measurement(
            size=self.size, first=first, times=np.array(self.times),
            pairs=_at_display(bridged(pairs, blind), scale, half), poses=_at_display(posed.poses, scale, half),
            tilted_poses=_at_display(posed.tilted_poses, scale, half), tilts=posed.tilts / scale,
            levels=joined_levels(self.sights, np.angle(bridged(pairs, blind).z), cut, blind),
            tracked=np.array([q.tracked for q in self.quality], np.int32),
            inliers=np.array([q.inliers for q in self.quality], np.int32),
            residual=np.array([q.residual for q in self.quality], np.float64) * scale,
            cut=cut, blind=blind, repeated=repeated, evidence=self._evidence(scale, half),
        )  # fmt: skip

    def _evidence(self, scale: float, half: complex) -> Evidence:
        def at_display(points: list[NDArray[np.float32]]) -> NDArray[np.float32]:
            together = np.concatenate([*points, np.zeros((0, 2), np.float32)])
            return np.asarray(together * np.float32(scale) + as_points(np.array([half]))[0], np.float32)

        def starts(points: list[NDArray[np.float32]]) -> NDArray[np.int64]:
            return np.asarray(np.r_[0, np.cumsum([len(p) for p in points])], np.int64)

        first, later = [m.source for m in self.matched], [m.target for m in self.matched]
        frames = np.array([(link.source, link.target) for link in self.links], np.int64).reshape(-1, 2)
        return Evidence(
            starts(self.points), at_display(self.points), np.concatenate([*self.believed, np.zeros(0, np.bool_)]),
            at_display(self.moved), Matches(frames, starts(first), at_display(first), at_display(later)),
        )  # fmt: skip


class Tracker(Protocol):
    """A measuring run of any kind of camera: takes frames in order, and gives their measurement."""

    size: Size

    @property
    def count(self) -> int:
        """Frames taken so far."""

    def small(self, luma: Gray) -> Gray:
        """A luma plane at the size that is analysed."""

    def add(self, luma: Gray, time: float, small: Gray | None = None) -> None:
        """Take the next frame's luma plane."""

    def finish(self, first: int) -> Measurement:
        """The measurement of frames from clip number `first`."""


def measure_frames(
    tracker: Tracker,
    frames: Iterable[tuple[Gray, Gray, float]],
    total: int,
    progress: Callable[[int, int], None],
    should_stop: Callable[[], bool],
    checkpoint: Callable[[Tracker], None] | None = None,
    checkpoint_every: int = 120,
) -> None:
    """Feed frames (luma plane, its small copy, time) to a tracker, with progress and checkpoints. Raises Stopped."""
    for luma, small, time in frames:
        if should_stop():
            raise Stopped("Measuring was stopped.")
        tracker.add(luma, time, small)
        progress(tracker.count, total)
        if checkpoint is not None and tracker.count % checkpoint_every == 0:
            checkpoint(tracker)


def _motion(values: list[tuple[complex, complex]]) -> Similarities:
    return Similarities(joined([z for z, _ in values]), joined([t for _, t in values]))


def _at_display(motion: Similarities, scale: float, half: complex) -> Similarities:
    """Motion in analysis pixels as motion in display pixels: p' = scale p + half."""
    return Similarities(motion.z, scale * motion.t + half - motion.z * half)
