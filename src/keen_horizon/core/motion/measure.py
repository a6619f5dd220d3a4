"""Measuring: a stream of luma planes in, a Measurement out, nothing of the stream kept.

Points are followed from frame to frame and, against drift, to a key frame: the frame is first warped by the
predicted pose so that only a small motion is left to find, and points count where they live or where that
says. A key frame serves while enough of its points are still in sight. Which points are believed, and the
motion that they tell, is worked out in the end (see `belief`).

Where a pair shows nothing in common, the last good frame is kept for a while: if a later one matches it,
what lay between was a flash, a black stretch or an obstacle, and motion is carried across; if none does,
it was a cut.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MeasurementError, Stopped
from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.geometry.similarity import Similarities, as_complex
from keen_horizon.core.motion.belief.solving import believed
from keen_horizon.core.motion.levels import EVERY, Levels, LevelSight, joined_levels, see_level
from keen_horizon.core.motion.links import Key, PairQuality
from keen_horizon.core.motion.living import Lived, LivingPoints, Lookout, followed, found_nearby, together
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement
from keen_horizon.core.motion.robust import MINIMUM_INLIERS, Fit, fit_tracks
from keen_horizon.core.motion.tracking import USUAL, Detail, Gray, Points, Tracks

KEY_GATE_PX = 1.5
KEY_SIGHT = 0.45
CUT_DIFFERENCE = 24.0
BRIDGE_S = 2.0
BRIDGE_SIGHT = 0.4
REPEAT_DIFFERENCE = 0.15
MOST_MISSES = 5
ASTRAY_PX = 2.0  # a key frame's point found so far from where it lives is another
MOSTLY = 0.6


@dataclass
class MotionTracker:
    """The state of a measuring run, in analysis pixels; feed it frames in order with `add`.

    `pairs` are what frames seem to do at once, for prediction only: what is believed is worked out in the end, from the
    points `lived` of every pair and those `matched` between further frames, `links` (source, target). `anchor` is the
    last good frame while what follows it shows nothing in common.
    """

    size: Size
    analysis: Size
    previous: Lookout | None = None
    times: list[float] = field(default_factory=list)
    quality: list[PairQuality] = field(default_factory=list)
    lived: list[Lived] = field(default_factory=list)
    links: list[tuple[int, int]] = field(default_factory=list)
    matched: list[Lived] = field(default_factory=list)
    sights: list[tuple[int, LevelSight]] = field(default_factory=list)
    living: LivingPoints = field(default_factory=LivingPoints)
    motion: tuple[complex, complex] | None = None
    anchor: Key | None = None
    key: Key | None = None
    key_z: complex = 1 + 0j
    key_t: complex = 0j
    key_misses: int = 0

    @staticmethod
    def start(size: Size, detail: Detail = USUAL) -> MotionTracker:
        """A fresh run for frames of display size `size`."""
        scale = min(1.0, detail.side / max(size.width, size.height))
        analysis = Size(max(16, round(size.width * scale)), max(16, round(size.height * scale)))
        return MotionTracker(size, analysis, living=LivingPoints(detail=detail))

    @property
    def detail(self) -> Detail:
        """How closely it looks."""
        return self.living.detail

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
        picture = Lookout.of(gray)
        if self.previous is not None:
            offered = self._pair(self.previous, picture)
            self._bridge(self.previous, picture, time, offered)
            self._match_key(picture)
        if self.key is None:
            self._new_key(picture)
        if self.count % EVERY == 0:
            self._see_level(gray, luma)
        self.previous = picture
        self.times.append(time)

    def _pair(self, previous: Lookout, picture: Lookout) -> Lived | None:
        """Follow what lives from the frame before; where they have nothing in common, all that was offered."""
        offered = self.living.offered(previous)
        lived = self.living.follow(previous, picture)
        strong = int((~offered.weak).sum())
        fit = _seeming(lived, picture.gray.shape, self.count, self.motion)
        cut = self._is_cut(previous.gray, picture.gray, fit, strong)
        known = fit is not None and not cut
        self.motion = (fit.z, fit.t) if fit is not None and known else None
        repeated = bool(cv2.absdiff(previous.gray, picture.gray).mean() < REPEAT_DIFFERENCE)
        self.quality.append(PairQuality(len(offered), cut, not known and not cut, repeated))
        self.lived.append(lived)
        if cut:
            self.key = None
            self.living.die()
        return None if known else offered

    def _is_cut(self, previous: Gray, gray: Gray, fit: Fit | None, offered: int) -> bool:
        if fit is not None and fit.count > 0.25 * offered:
            return False
        small = [cv2.resize(g, (32, 18), interpolation=cv2.INTER_AREA).astype(np.float32) for g in (previous, gray)]
        return bool(np.abs(small[0] - small[1]).mean() > CUT_DIFFERENCE)

    def _bridge(self, previous: Lookout, picture: Lookout, time: float, offered: Lived | None) -> None:
        """Keep the frame before trouble; carry motion across when a later one matches it."""
        if self.anchor is None:
            if offered is not None and len(offered):
                self.anchor = Key(self.count - 1, previous, offered)
            return
        anchor = self.anchor
        if time - self.times[anchor.number] > BRIDGE_S:
            self.anchor = None
            return
        found = followed(anchor.picture, picture, anchor.points)
        fit = _seeming(found, picture.gray.shape, self.count)
        if fit is None or fit.count < BRIDGE_SIGHT * len(anchor.points):
            return
        self._link(anchor.number, found)
        for quality in self.quality[anchor.number :]:
            if quality.cut:
                quality.cut, quality.blind = False, True
        self.living.revive(found)
        self.anchor = None

    def _match_key(self, picture: Lookout) -> None:
        key = self.key
        if key is None:
            return
        found = None
        if self.motion is not None:  # else what agrees would be noise
            z, t = self.motion
            self.key_z, self.key_t = z * self.key_z, z * self.key_t + t
            found = self._seen_again(key, picture)
        if found is None:
            self.key_misses += 1
        else:
            self.key_misses = 0
            if key.number != self.count - 1:
                self._link(key.number, found)
            if len(found) >= KEY_SIGHT * len(key.points):
                return
        if found is not None or self.key_misses > MOST_MISSES:
            self._new_key(picture)

    def _link(self, source: int, found: Lived) -> None:
        """Keep a match of an earlier frame to this one."""
        self.links.append((source, self.count))
        self.matched.append(found)

    def _seen_again(self, key: Key, picture: Lookout) -> Lived | None:
        """The key frame's points in this one: sought where they live, or where the picture seems to have gone."""
        places, alive = self.living.at(key.points.identity)
        self._expect(key.points.source[alive], places[alive], picture.gray.shape)
        predicted = np.array([[self.key_z.real, -self.key_z.imag, self.key_t.real],
                              [self.key_z.imag, self.key_z.real, self.key_t.imag]])  # fmt: skip
        inverse = cv2.invertAffineTransform(predicted)
        warped = Lookout.of(
            cv2.warpAffine(
                picture.gray, predicted, picture.gray.shape[::-1],
                flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE,
            )
        )  # fmt: skip
        lives = _moved(places, inverse)
        elsewhere = alive & (np.hypot(*(lives - key.points.source).T) > KEY_GATE_PX)
        guess = np.where(elsewhere[:, None], lives, key.points.source).astype(np.float32)
        near = found_nearby(key.picture, warped, key.points, guess)
        found = _moved(near.target, predicted)
        height, width = picture.gray.shape
        inside = ((found >= 4) & (found < (width - 4, height - 4))).all(-1)
        rows = np.flatnonzero(inside)
        again = Lived(near.source[rows], found[rows], near.identity[rows], near.weak[rows])
        agreeing = self._agreeing(again)
        if agreeing is not None:
            fit = _seeming(agreeing, picture.gray.shape, self.count, (self.key_z, self.key_t))
            self.key_z, self.key_t = (fit.z, fit.t) if fit is not None else (self.key_z, self.key_t)
        return agreeing

    def _expect(self, source: Points, lives: Points, shape: tuple[int, ...]) -> None:
        """Look for the key frame's points where most of those that live went, if that is elsewhere."""
        if len(source) < MINIMUM_INLIERS:
            return
        off = np.abs(self.key_z * as_complex(source) + self.key_t - as_complex(lives))
        if np.median(off) < KEY_GATE_PX:
            return
        fit = fit_tracks(Tracks(source, lives), shape, self.count, (self.key_z, self.key_t))
        if fit is not None:
            self.key_z, self.key_t = fit.z, fit.t

    def _agreeing(self, again: Lived) -> Lived | None:
        """Points found where they live, and of those that were lost, those that agree with what seems to move."""
        places, alive = self.living.at(again.identity)
        near = alive & (np.hypot(*(again.target - places).T) < ASTRAY_PX)
        z, t = self.key_z, self.key_t
        source, target = as_complex(again.source), as_complex(again.target)
        near |= ~alive & (np.abs(z * source + t - target) < KEY_GATE_PX)
        return again.only(near) if near.sum() >= MINIMUM_INLIERS else None

    def _new_key(self, picture: Lookout) -> None:
        points = self.living.offered(picture).only(self.living.one_a_cell(picture.gray.shape))
        whole = np.where(points.weak[:, None], points.source, np.round(points.source)).astype(np.float32)
        self.key = Key(self.count, picture, replace(points, source=whole))
        self.key_z, self.key_t, self.key_misses = 1 + 0j, 0j, 0

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
        still, pairs = Similarities.identity(self.count), Similarities.identity(self.count - 1)
        none = np.zeros(self.count - 1, np.int32)
        tracked = Measurement(
            size=self.size, first=first, times=np.array(self.times), pairs=pairs, poses=still, tilted_poses=still,
            tilts=np.zeros(self.count, np.complex128), levels=Levels.unknown(self.count),
            tracked=np.array([q.tracked for q in self.quality], np.int32), inliers=none,
            residual=np.zeros(self.count - 1), cut=cut, blind=blind, repeated=repeated, evidence=self._evidence(),
        )  # fmt: skip
        found = believed(tracked)
        return replace(found, levels=joined_levels(self.sights, np.angle(found.pairs.z), cut, found.blind))

    def _evidence(self) -> Evidence:
        display_from_analysis = resized(self.size, self.analysis)
        scale, half = np.float32(display_from_analysis[0, 0]), display_from_analysis[:2, 2].astype(np.float32)
        lived, matched = together(self.lived), together(self.matched)
        frames = np.array(self.links, np.int64).reshape(-1, 2)
        matches = Matches(
            frames, _starts(self.matched), matched.source * scale + half, matched.target * scale + half,
            matched.identity, matched.weak,
        )  # fmt: skip
        return Evidence(
            _starts(self.lived), lived.source * scale + half, np.zeros(len(lived), np.bool_),
            lived.target * scale + half, matches, lived.identity, lived.weak, np.full(len(lived), -1, np.int32),
        )  # fmt: skip


def _starts(lists: list[Lived]) -> NDArray[np.int64]:
    return np.asarray(np.r_[0, np.cumsum([len(lived) for lived in lists])], np.int64)


def _seeming(
    lived: Lived, shape: tuple[int, ...], seed: int, hint: tuple[complex, complex] | None = None
) -> Fit | None:
    """What most of the corners do; where there are too few of them, what most of all points do."""
    corners = lived.only(~lived.weak)
    fit = fit_tracks(Tracks(corners.source, corners.target), shape, seed, hint)
    if fit is not None:
        return fit
    fit = fit_tracks(Tracks(lived.source, lived.target), shape, seed, hint)
    return fit if fit is not None and fit.count > MOSTLY * len(lived) else None


def _moved(points: Points, matrix: NDArray[np.floating]) -> Points:
    return np.asarray(points @ matrix[:, :2].T + matrix[:, 2], np.float32)


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
