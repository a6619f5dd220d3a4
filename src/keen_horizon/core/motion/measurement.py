"""The Measurement: a range's camera motion and its evidence, computed once and kept as one file."""

from __future__ import annotations

import zipfile
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MeasurementError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.glass.shutter import UNKNOWN, Readout
from keen_horizon.core.motion.levels import Levels

FORMAT = 6

NOBODY: NDArray[np.int32] = np.zeros(0, np.int32)
NOTHING: NDArray[np.bool_] = np.zeros(0, np.bool_)
NO_FIGURES: NDArray[np.float64] = np.zeros(0)


@dataclass(frozen=True)
class Matches:
    """Points found in two frames that do not follow each other: match l owns rows `starts[l]` ... `starts[l + 1]`.

    `frames` (L, 2) are counted from the measurement's first; `points` and `moved` (K, 2) float32 display pixels in
    the earlier and in the later frame; `identity` and `weak` (K,) as in Evidence.
    """

    frames: NDArray[np.int64]
    starts: NDArray[np.int64]
    points: NDArray[np.float32]
    moved: NDArray[np.float32]
    identity: NDArray[np.int32] = field(default_factory=lambda: NOBODY)
    weak: NDArray[np.bool_] = field(default_factory=lambda: NOTHING)

    @staticmethod
    def none() -> Matches:
        """No match."""
        empty = np.zeros((0, 2), np.float32)
        return Matches(np.zeros((0, 2), np.int64), np.zeros(1, np.int64), empty, empty)

    def part(self, start: int, stop: int) -> Matches:
        """Matches between frames `start` ... `stop` - 1, counted from `start`."""
        kept = np.flatnonzero(((self.frames >= start) & (self.frames < stop)).all(1))
        counts = np.diff(self.starts)
        rows = np.repeat(np.isin(np.arange(len(counts)), kept), counts)
        starts = np.r_[0, np.cumsum(counts[kept])].astype(np.int64)
        known = rows if len(self.identity) else np.zeros(0, np.bool_)
        return Matches(
            self.frames[kept] - start,
            starts,
            self.points[rows],
            self.moved[rows],
            self.identity[known],
            self.weak[known],
        )


@dataclass(frozen=True)
class Evidence:
    """Tracked points of all pairs in one table: pair p owns rows `starts[p]` ... `starts[p + 1]`.

    `points` (M, 2) float32 in the first frame of the pair, display pixels; `believed` (M,) marks inliers; `moved`
    (M, 2) is where they were found in the next frame, empty in measurements of earlier formats. `matches` are
    those between frames further apart.

    A point keeps its `identity` (M,) from frame to frame; `weak` (M,) ones lie where little can be told apart; `layer`
    (M,) is 0 for what is believed to stand still, 1 ... for what moves otherwise, -1 where nothing is known. These are
    empty in measurements of formats before 6, and of spheres.
    """

    starts: NDArray[np.int64]
    points: NDArray[np.float32]
    believed: NDArray[np.bool_]
    moved: NDArray[np.float32]
    matches: Matches
    identity: NDArray[np.int32] = field(default_factory=lambda: NOBODY)
    weak: NDArray[np.bool_] = field(default_factory=lambda: NOTHING)
    layer: NDArray[np.int32] = field(default_factory=lambda: NOBODY)

    def of_pair(self, pair: int) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
        """Points and belief of one pair."""
        rows = slice(int(self.starts[pair]), int(self.starts[pair + 1]))
        return self.points[rows], self.believed[rows]

    def part(self, start: int, stop: int) -> Evidence:
        """What concerns frames `start` ... `stop` - 1, counted from the first."""
        rows = self.starts[start:stop]
        table = slice(int(rows[0]), int(rows[-1]))
        return Evidence(
            rows - rows[0], self.points[table], self.believed[table], self.moved[table], self.matches.part(start, stop),
            self.identity[table], self.weak[table], self.layer[table],
        )  # fmt: skip


@dataclass(frozen=True)
class Uprights:
    """Edges seen all around in `frames` (K,), counted from the measurement's first: unit rays (K, 3) float32 to them,
    and the unit normals (K, 3) of the planes through the camera that they lie in.
    """

    frames: NDArray[np.int64]
    rays: NDArray[np.float32]
    normals: NDArray[np.float32]

    def part(self, start: int, stop: int) -> Uprights:
        """Those of frames `start` ... `stop` - 1, counted from `start`."""
        kept = (self.frames >= start) & (self.frames < stop)
        return Uprights(self.frames[kept] - start, self.rays[kept], self.normals[kept])


NO_UPRIGHTS = Uprights(np.zeros(0, np.int64), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32))


@dataclass(frozen=True, kw_only=True)
class Measurement:
    """Motion of N frames from frame `first`, in display pixels (upright, square).

    `pairs` (N-1,) next_from_this; `poses` (N,) reference_from_frame, drift removed. `tilted_poses` (N,) with
    `tilts` (N,), 1/px (see geometry.tilt), are the same with perspective; `levels` where level lies.
    `tracked`, `inliers` (N-1,) counts; `residual` (N-1,) RMS of the inliers in px; `cut` (N-1,) marks a
    change of shot; `confidence` (N-1,), 0 ... 1, how sure the motion is, None where the format does not tell; `blind`
    (N-1,) pairs whose motion was interpolated since nothing could be followed;
    `repeated` (N-1,) frames that are copies of the one before. `readout` is how the rows were read.

    Of a `sphere` only the evidence tells the motion, its places px of the equirectangular picture; poses stand still,
    and `uprights` are what tells where up is.
    """

    size: Size
    first: int
    times: NDArray[np.float64]
    pairs: Similarities
    poses: Similarities
    tilted_poses: Similarities
    tilts: Complex
    levels: Levels
    tracked: NDArray[np.int32]
    inliers: NDArray[np.int32]
    residual: NDArray[np.float64]
    cut: NDArray[np.bool_]
    blind: NDArray[np.bool_]
    repeated: NDArray[np.bool_]
    evidence: Evidence
    confidence: NDArray[np.float64] | None = None
    readout: Readout = UNKNOWN
    sphere: bool = False
    uprights: Uprights = NO_UPRIGHTS

    def __len__(self) -> int:
        return len(self.times)

    @property
    def last(self) -> int:
        """The clip's number of the last frame."""
        return self.first + len(self) - 1

    @staticmethod
    def still(size: Size, first: int, times: NDArray[np.float64]) -> Measurement:
        """Frames taken as if the camera stood still: what is enough where the motion stays as shot."""
        count, none = len(times), np.zeros((0, 2), np.float32)
        poses, pairs = Similarities.identity(count), Similarities.identity(max(0, count - 1))
        counts, flags = np.zeros(len(pairs), np.int32), np.zeros(len(pairs), np.bool_)
        evidence = Evidence(np.zeros(count, np.int64), none, np.zeros(0, np.bool_), none, Matches.none())
        return Measurement(
            size=size, first=first, times=times, pairs=pairs, poses=poses, tilted_poses=poses,
            tilts=np.zeros(count, np.complex128), levels=Levels.unknown(count), tracked=counts, inliers=counts,
            residual=np.zeros(len(pairs)), cut=flags, blind=flags, repeated=flags, evidence=evidence,
        )  # fmt: skip

    @property
    def complete(self) -> bool:
        """Whether it tells what measuring tells today; those of earlier formats do not."""
        return self.sphere or self.confidence is not None

    @property
    def rate(self) -> float:
        """Frames per second on average."""
        span = float(self.times[-1] - self.times[0])
        return (len(self) - 1) / span if span > 0 else 25.0

    def turned(self, turns: int) -> Measurement:
        """The same of pictures that so many quarter turns made upright: earlier formats do not say."""
        return replace(self, readout=replace(self.readout, turns=turns))

    def part(self, first: int, last: int) -> Measurement:
        """The measurement of frames `first` ... `last`, clip numbering, inclusive."""
        start, stop = first - self.first, last - self.first + 1
        if start < 0 or stop > len(self) or stop <= start:
            raise MeasurementError(
                f"Frames {first}-{last} were not measured; {self.first}-{self.first + len(self) - 1} were."
            )
        pairs = slice(start, stop - 1)
        frames = ("times", "poses", "tilted_poses", "tilts", "levels")
        of_pairs = ("pairs", "tracked", "inliers", "residual", "cut", "blind", "repeated")
        return replace(
            self,
            first=first,
            evidence=self.evidence.part(start, stop),
            uprights=self.uprights.part(start, stop),
            **{name: getattr(self, name)[start:stop] for name in frames},
            confidence=None if self.confidence is None else self.confidence[pairs],
            **{name: getattr(self, name)[pairs] for name in of_pairs},
        )

    def save(self, path: Path) -> None:
        """Write as NumPy's .npz, beside and renamed."""
        partial = path.with_name(path.name + ".part.npz")
        np.savez_compressed(
            partial,
            format=FORMAT, size=[self.size.width, self.size.height], first=self.first, times=self.times,
            pair_z=self.pairs.z, pair_t=self.pairs.t, pose_z=self.poses.z, pose_t=self.poses.t,
            tilted_z=self.tilted_poses.z, tilted_t=self.tilted_poses.t, tilts=self.tilts,
            level=self.levels.angle, level_sigma=self.levels.sigma, level_kind=self.levels.kind,
            tracked=self.tracked, inliers=self.inliers, residual=self.residual, cut=self.cut,
            blind=self.blind, repeated=self.repeated, starts=self.evidence.starts, points=self.evidence.points,
            believed=self.evidence.believed, moved=self.evidence.moved, match_frames=self.evidence.matches.frames,
            match_starts=self.evidence.matches.starts, match_points=self.evidence.matches.points,
            match_moved=self.evidence.matches.moved, match_identity=self.evidence.matches.identity,
            match_weak=self.evidence.matches.weak, identity=self.evidence.identity, weak=self.evidence.weak,
            layer=self.evidence.layer, confidence=NO_FIGURES if self.confidence is None else self.confidence,
            readout=[self.readout.frames, self.readout.doubt, self.readout.enough, self.readout.turns],
            sphere=self.sphere, upright_frames=self.uprights.frames, upright_rays=self.uprights.rays,
            upright_normals=self.uprights.normals,
        )  # fmt: skip
        partial.replace(path)

    @staticmethod
    def load(path: Path) -> Measurement:
        """Read what `save` wrote. Raises MeasurementError for anything else."""
        try:
            with np.load(path, allow_pickle=False) as data:
                if int(data["format"]) > FORMAT:
                    raise MeasurementError(f"{path.name}: made by a newer version; measure the clip again.")
                poses, count = Similarities(data["pose_z"], data["pose_t"]), len(data["times"])
                tilted, tilts, levels, repeated = (  # format 1 had none of these
                    (poses, np.zeros(count, np.complex128), Levels.unknown(count), np.zeros(count - 1, np.bool_))
                    if int(data["format"]) == 1
                    else (
                        Similarities(data["tilted_z"], data["tilted_t"]), data["tilts"],
                        Levels(data["level"], data["level_sigma"], data["level_kind"]), data["repeated"],
                    )
                )  # fmt: skip
                return Measurement(
                    size=Size(*(int(side) for side in data["size"])), first=int(data["first"]), times=data["times"],
                    pairs=Similarities(data["pair_z"], data["pair_t"]), poses=poses, tilted_poses=tilted, tilts=tilts,
                    levels=levels, tracked=data["tracked"], inliers=data["inliers"], residual=data["residual"],
                    cut=data["cut"], blind=data["blind"], repeated=repeated, evidence=_evidence(data),
                    confidence=_confidence(data), readout=_readout(data),
                    sphere="sphere" in data and bool(data["sphere"]), uprights=_uprights(data),
                )  # fmt: skip
        except (OSError, KeyError, ValueError, zipfile.BadZipFile) as error:
            raise MeasurementError(f"{path.name}: this is not a measurement; measure the clip again.") from error


def _evidence(data: Any) -> Evidence:
    if int(data["format"]) < 3:
        return Evidence(data["starts"], data["points"], data["believed"], np.zeros((0, 2), np.float32), Matches.none())
    named = ("identity", "weak") if int(data["format"]) >= 6 else ()
    matches = Matches(*(data[f"match_{name}"] for name in ("frames", "starts", "points", "moved", *named)))
    who = [data[name] for name in ("identity", "weak", "layer")] if named else []
    return Evidence(data["starts"], data["points"], data["believed"], data["moved"], matches, *who)


def _confidence(data: Any) -> NDArray[np.float64] | None:
    told = data["confidence"] if int(data["format"]) >= 6 else NO_FIGURES
    return told if len(told) else None


def _uprights(data: Any) -> Uprights:
    if "sphere" not in data:
        return NO_UPRIGHTS
    return Uprights(*(data[f"upright_{name}"] for name in ("frames", "rays", "normals")))


def _readout(data: Any) -> Readout:
    if int(data["format"]) < 4:
        return UNKNOWN
    frames, doubt, enough, *turns = data["readout"].tolist()  # the first of format 4 did not keep the turns
    return Readout(frames, doubt, bool(enough), int(*turns))


def measurement_notes(measurement: Measurement) -> tuple[str, ...]:
    """What an editor should know about how the measurement went, with the frames concerned."""
    notes = []
    first = measurement.first
    if measurement.cut.any():
        at = first + 1 + np.flatnonzero(measurement.cut)
        shown = ", ".join(str(frame) for frame in at[:6]) + (" ..." if len(at) > 6 else "")
        notes.append(f"A new shot begins at frame {shown}. Every shot is steadied by itself.")
    if len(measurement.blind) and measurement.blind.all():
        notes.append("Nothing could be followed in any frame, so nothing is steadied.")
    elif measurement.blind.any():
        shown = ", ".join(f"{first + a}-{first + b}" for a, b in _stretches(measurement.blind)[:6])
        notes.append(f"Nothing could be followed in frames {shown}; the motion there is interpolated.")
    if measurement.readout.seen:
        notes.append(_readout_note(measurement.readout))
    repeated = int(measurement.repeated.sum())
    if 0 < repeated <= len(measurement) / 2:
        notes.append(f"{repeated} frames repeat the one before them; the picture stutters there as shot.")
    return tuple(notes)


def _readout_note(readout: Readout) -> str:
    way = "the last row first" if readout.frames < 0 else "the first row first"
    return (
        f"The sensor's rows are read one after another, over {abs(readout.frames):.2f} of a frame, {way} "
        f"(confidence {100 * readout.confidence:.0f} %): shaken, the picture leans and wobbles."
    )


def _stretches(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Runs of pairs as the frames from the first one's start to the last one's end."""
    edges = np.flatnonzero(np.diff(np.r_[0, flags.astype(np.int8), 0]))
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2)]


def joined(values: list[complex]) -> Complex:
    """A list of complex numbers as an array, also when empty."""
    return np.array(values, np.complex128)
