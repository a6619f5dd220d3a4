"""The Measurement: a range's camera motion and its evidence, computed once and kept as one file."""

from __future__ import annotations

import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MeasurementError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities

FORMAT = 1


@dataclass(frozen=True)
class Evidence:
    """Tracked points of all pairs in one table: pair p owns rows `starts[p]` ... `starts[p + 1]`.

    `points` (M, 2) float32 in the first frame of the pair, display pixels; `believed` (M,) marks inliers.
    """

    starts: NDArray[np.int64]
    points: NDArray[np.float32]
    believed: NDArray[np.bool_]

    def of_pair(self, pair: int) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
        """Points and belief of one pair."""
        rows = slice(int(self.starts[pair]), int(self.starts[pair + 1]))
        return self.points[rows], self.believed[rows]


@dataclass(frozen=True)
class Measurement:
    """Motion of N frames from frame `first`, in display pixels (upright, square).

    `pairs` (N-1,) next_from_this; `poses` (N,) reference_from_frame, drift removed. `tracked`,
    `inliers` (N-1,) counts; `residual` (N-1,) RMS of the inliers in px; `cut` (N-1,) marks a change of
    shot; `blind` (N-1,) pairs whose motion was interpolated since nothing could be followed.
    """

    size: Size
    first: int
    times: NDArray[np.float64]
    pairs: Similarities
    poses: Similarities
    tracked: NDArray[np.int32]
    inliers: NDArray[np.int32]
    residual: NDArray[np.float64]
    cut: NDArray[np.bool_]
    blind: NDArray[np.bool_]
    evidence: Evidence

    def __len__(self) -> int:
        return len(self.times)

    @property
    def rate(self) -> float:
        """Frames per second on average."""
        span = float(self.times[-1] - self.times[0])
        return (len(self) - 1) / span if span > 0 else 25.0

    def part(self, first: int, last: int) -> Measurement:
        """The measurement of frames `first` ... `last`, clip numbering, inclusive."""
        start, stop = first - self.first, last - self.first + 1
        if start < 0 or stop > len(self) or stop <= start:
            raise MeasurementError(
                f"Frames {first}-{last} were not measured; {self.first}-{self.first + len(self) - 1} were."
            )
        pairs = slice(start, stop - 1)
        rows = self.evidence.starts[start:stop]
        table = slice(int(rows[0]), int(rows[-1]))
        return Measurement(
            self.size, first, self.times[start:stop], self.pairs[pairs], self.poses[start:stop],
            self.tracked[pairs], self.inliers[pairs], self.residual[pairs], self.cut[pairs], self.blind[pairs],
            Evidence(rows - rows[0], self.evidence.points[table], self.evidence.believed[table]),
        )  # fmt: skip

    def save(self, path: Path) -> None:
        """Write as NumPy's .npz, beside and renamed."""
        partial = path.with_name(path.name + ".part.npz")
        np.savez_compressed(
            partial,
            format=FORMAT, size=[self.size.width, self.size.height], first=self.first, times=self.times,
            pair_z=self.pairs.z, pair_t=self.pairs.t, pose_z=self.poses.z, pose_t=self.poses.t,
            tracked=self.tracked, inliers=self.inliers, residual=self.residual, cut=self.cut,
            blind=self.blind, starts=self.evidence.starts, points=self.evidence.points,
            believed=self.evidence.believed,
        )  # fmt: skip
        partial.replace(path)

    @staticmethod
    def load(path: Path) -> Measurement:
        """Read what `save` wrote. Raises MeasurementError for anything else."""
        try:
            with np.load(path, allow_pickle=False) as data:
                if int(data["format"]) != FORMAT:
                    raise MeasurementError(f"{path.name}: made by another version; measure the clip again.")
                return Measurement(
                    Size(*(int(side) for side in data["size"])), int(data["first"]), data["times"],
                    Similarities(data["pair_z"], data["pair_t"]), Similarities(data["pose_z"], data["pose_t"]),
                    data["tracked"], data["inliers"], data["residual"], data["cut"], data["blind"],
                    Evidence(data["starts"], data["points"], data["believed"]),
                )  # fmt: skip
        except (OSError, KeyError, ValueError, zipfile.BadZipFile) as error:
            raise MeasurementError(f"{path.name}: this is not a measurement; measure the clip again.") from error

    def to_motion_json(self, pixel_aspect: float) -> dict[str, Any]:
        """The open `motion.json` document, in stored source pixels."""
        squeeze = np.array([[1 / pixel_aspect, 0, (1 / pixel_aspect - 1) / 2], [0, 1, 0], [0, 0, 1]])
        stretch = np.linalg.inv(squeeze)
        matrices = squeeze @ self.pairs.matrices() @ stretch
        return {
            "width": round(self.size.width / pixel_aspect),
            "height": self.size.height,
            "frames": len(self),
            "times": (self.times - self.times[0]).tolist(),
            "pairs": [
                {
                    "from": self.first + i,
                    "to": self.first + i + 1,
                    "matrix": matrices[i].tolist(),
                    "inliers": int(self.inliers[i]),
                    "tracked": int(self.tracked[i]),
                }
                for i in range(len(self.pairs))
            ],
        }


def joined(values: list[complex]) -> Complex:
    """A list of complex numbers as an array, also when empty."""
    return np.array(values, np.complex128)
