"""Measuring: a stream of luma planes in, a Measurement out, nothing of the stream kept.

Every frame is matched to the one before and, against drift, to a key frame: the frame is first
warped by the predicted pose so that only a small motion is left to find, and the match counts only if
it agrees with the prediction. A key frame serves while enough of its points are still in sight. The
pose graph joins all of it.

`MotionTracker` can be stored and restored between any two frames: that is the checkpoint.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MeasurementError, Stopped
from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.geometry.similarity import Complex, Floats, Similarities, as_points
from keen_horizon.core.motion.measurement import Evidence, Measurement, joined
from keen_horizon.core.motion.posegraph import Edges, solve_poses
from keen_horizon.core.motion.robust import Fit, fit_tracks
from keen_horizon.core.motion.tracking import Gray, Points, Tracks, follow, follow_nearby, spread_corners

ANALYSIS_SIDE = 640
FINE_SIDE = 960
KEY_GATE_PX = 1.5
KEY_SIGHT = 0.45
FRESH_EVERY, FRESH_BELOW = 4, 0.7
PAIR_SIGMA, KEY_SIGMA, BLIND_SIGMA = 0.1, 0.1, 30.0
CUT_DIFFERENCE = 24.0


@dataclass
class _Key:
    """A frame that later ones are matched to."""

    number: int
    gray: Gray
    corners: Points


@dataclass
class MotionTracker:
    """The state of a measuring run, in analysis pixels; feed it frames in order with `add`."""

    size: Size
    analysis: Size
    previous: Gray | None = None
    count: int = 0
    times: list[float] = field(default_factory=list)
    pair_z: list[complex] = field(default_factory=list)
    pair_t: list[complex] = field(default_factory=list)
    quality: list[tuple[int, int, float, bool, bool]] = field(default_factory=list)
    points: list[NDArray[np.float32]] = field(default_factory=list)
    believed: list[NDArray[np.bool_]] = field(default_factory=list)
    links: list[tuple[int, int, complex, complex, complex]] = field(default_factory=list)
    centres: list[complex] = field(default_factory=list)
    key: _Key | None = None
    key_z: complex = 1 + 0j
    key_t: complex = 0j
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

    def add(self, luma: NDArray[np.uint8], time: float) -> None:
        """Take the next frame's luma plane (rows, columns)."""
        gray = cv2.resize(luma, (self.analysis.width, self.analysis.height), interpolation=cv2.INTER_AREA)
        if self.previous is not None:
            self._pair(self.previous, gray)
            self._match_key(gray)
        if self.key is None:
            self._new_key(gray)
        self.previous = gray
        self.times.append(time)
        self.count += 1

    def _pair(self, previous: Gray, gray: Gray) -> None:
        corners = self._points(previous)
        tracks = follow(previous, gray, corners)
        self.followed = tracks.target
        hint = (self.pair_z[-1], self.pair_t[-1]) if self.pair_z else None
        fit = fit_tracks(tracks, gray.shape, self.count, hint)
        cut = self._is_cut(previous, gray, fit, len(corners))
        self.pair_z.append(1 + 0j if fit is None or cut else fit.z)
        self.pair_t.append(0j if fit is None or cut else fit.t)
        self.centres.append(fit.centre if fit else self.analysis.centre)
        self.quality.append(
            (
                len(corners),
                fit.count if fit else 0,
                fit.residual if fit else 0.0,
                cut,
                fit is None and not cut,
            )
        )
        self.points.append(tracks.source)
        self.believed.append(fit.inliers if fit else np.zeros(len(tracks), np.bool_))
        if cut:
            self.key = None

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

    def _match_key(self, gray: Gray) -> None:
        key = self.key
        if key is None:
            return
        z, t = self.pair_z[-1], self.pair_t[-1]
        self.key_z, self.key_t = z * self.key_z, z * self.key_t + t
        match = self._match(key, gray, self.key_z, self.key_t)
        if match is None:
            self.key_misses += 1
        else:
            fit, seen = match
            self.key_misses = 0
            self.key_z, self.key_t = fit.z, fit.t
            if key.number != self.count - 1:
                self.links.append((key.number, self.count, fit.z, fit.t, fit.centre))
            if seen >= KEY_SIGHT:
                return
        if match is not None or self.key_misses > 5:
            self._new_key(gray)

    def _match(self, key: _Key, gray: Gray, z: complex, t: complex) -> tuple[Fit, float] | None:
        """Match a frame to a key frame near the predicted motion; also the share of points in sight."""
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
        fit = fit_tracks(tracks, gray.shape, self.count, (z, t))
        if fit is None or not fit.agrees(z, t, gray.shape, KEY_GATE_PX):
            return None
        return fit, fit.count / max(1, len(key.corners))

    def _new_key(self, gray: Gray) -> None:
        self.key = _Key(self.count, gray, spread_corners(gray, per_cell=1))
        self.key_z, self.key_t, self.key_misses = 1 + 0j, 0j, 0

    def finish(self, first: int) -> Measurement:
        """Solve the pose graph and give the measurement of frames from clip number `first`."""
        if self.count == 0:
            raise MeasurementError("There was no frame to measure; widen the range.")
        quality = np.array(self.quality, np.float64).reshape(-1, 5)
        cut, blind = quality[:, 3] > 0, quality[:, 4] > 0
        pairs = _bridged(Similarities(joined(self.pair_z), joined(self.pair_t)), blind)
        poses = self._poses(pairs, blind)
        display_from_analysis = resized(self.size, self.analysis)
        scale = float(display_from_analysis[0, 0])
        half = complex(display_from_analysis[0, 2], display_from_analysis[1, 2])
        starts = np.r_[0, np.cumsum([len(p) for p in self.points])].astype(np.int64)
        points = np.concatenate([*self.points, np.zeros((0, 2), np.float32)])
        evidence = Evidence(
            starts,
            (points * np.float32(scale) + as_points(np.array([half]))[0]).astype(np.float32),
            np.concatenate([*self.believed, np.zeros(0, np.bool_)]),
        )
        return Measurement(
            self.size, first, np.array(self.times),
            _at_display(pairs, scale, half), _at_display(poses, scale, half),
            quality[:, 0].astype(np.int32), quality[:, 1].astype(np.int32), quality[:, 2] * scale,
            cut, blind, evidence,
        )  # fmt: skip

    def _poses(self, pairs: Similarities, blind: NDArray[np.bool_]) -> Similarities:
        chain = Similarities.chain(pairs)
        if len(pairs) == 0:
            return chain
        sources = np.r_[np.arange(len(pairs)), [link[0] for link in self.links]].astype(np.intp)
        targets = np.r_[np.arange(1, len(pairs) + 1), [link[1] for link in self.links]].astype(np.intp)
        motion = Similarities(
            np.r_[pairs.z, joined([link[2] for link in self.links])],
            np.r_[pairs.t, joined([link[3] for link in self.links])],
        )
        centre: Complex = np.r_[joined(self.centres), joined([link[4] for link in self.links])]
        sigma: Floats = np.r_[np.where(blind, BLIND_SIGMA, PAIR_SIGMA), np.full(len(self.links), KEY_SIGMA)]
        return solve_poses(Edges(sources, targets, motion, centre, sigma), chain, self.analysis.half_diagonal / 2)

    def store(self) -> bytes:
        """The state as bytes of an .npz, without pickling."""
        data: dict[str, Any] = {
            "sizes": [self.size.width, self.size.height, self.analysis.width, self.analysis.height],
            "count": self.count, "times": self.times, "pair_z": joined(self.pair_z), "pair_t": joined(self.pair_t),
            "quality": np.array(self.quality, np.float64).reshape(-1, 5),
            "lengths": [len(p) for p in self.points],
            "points": np.concatenate([*self.points, np.zeros((0, 2), np.float32)]),
            "believed": np.concatenate([*self.believed, np.zeros(0, np.bool_)]),
            "links": np.array(self.links, np.complex128).reshape(-1, 5), "centres": joined(self.centres),
            "key": np.array([self.key_z, self.key_t, self.key_misses]),
        }  # fmt: skip
        if self.previous is not None:
            data["previous"] = self.previous
        if self.key is not None:
            data |= {"key_number": self.key.number, "key_gray": self.key.gray, "key_corners": self.key.corners}
        buffer = io.BytesIO()
        np.savez(buffer, **data)
        return buffer.getvalue()

    @staticmethod
    def restore(stored: bytes) -> MotionTracker:
        """The reverse of `store`. Raises ValueError or KeyError on foreign bytes."""
        with np.load(io.BytesIO(stored), allow_pickle=False) as data:
            width, height, across, down = (int(side) for side in data["sizes"])
            ends = np.cumsum(data["lengths"])[:-1]
            key_z, key_t, misses = data["key"]
            return MotionTracker(
                Size(width, height), Size(across, down),
                previous=data.get("previous", None),
                count=int(data["count"]), times=data["times"].tolist(),
                pair_z=data["pair_z"].tolist(), pair_t=data["pair_t"].tolist(),
                quality=[(int(q[0]), int(q[1]), float(q[2]), bool(q[3]), bool(q[4])) for q in data["quality"]],
                points=np.split(data["points"], ends)[: len(data["lengths"])],
                believed=np.split(data["believed"], ends)[: len(data["lengths"])],
                links=[(int(a.real), int(b.real), z, t, c) for a, b, z, t, c in data["links"].tolist()],
                centres=data["centres"].tolist(),
                key=_Key(int(data["key_number"]), data["key_gray"], data["key_corners"])
                if "key_number" in data
                else None,
                key_z=complex(key_z), key_t=complex(key_t), key_misses=int(misses.real),
            )  # fmt: skip


def measure_frames(
    tracker: MotionTracker,
    frames: Iterable[tuple[NDArray[np.uint8], float]],
    total: int,
    progress: Callable[[int, int], None],
    should_stop: Callable[[], bool],
    checkpoint: Callable[[bytes], None] | None = None,
    checkpoint_every: int = 120,
) -> None:
    """Feed frames (luma plane, time) to a tracker, with progress and checkpoints. Raises Stopped."""
    for luma, time in frames:
        if should_stop():
            raise Stopped("Measuring was stopped.")
        tracker.add(luma, time)
        progress(tracker.count, total)
        if checkpoint is not None and tracker.count % checkpoint_every == 0:
            checkpoint(tracker.store())


def _bridged(pairs: Similarities, blind: NDArray[np.bool_]) -> Similarities:
    """Blind pairs take the motion interpolated between their neighbours."""
    if not blind.any() or blind.all():
        return pairs
    index = np.arange(len(pairs))
    known = ~blind

    def fill(values: Complex) -> Complex:
        real = np.interp(index, index[known], values.real[known])
        imaginary = np.interp(index, index[known], values.imag[known])
        return np.asarray(real + 1j * imaginary)

    return Similarities(fill(pairs.z), fill(pairs.t))


def _at_display(motion: Similarities, scale: float, half: complex) -> Similarities:
    """Motion in analysis pixels as motion in display pixels: p' = scale p + half."""
    return Similarities(motion.z, scale * motion.t + half - motion.z * half)
