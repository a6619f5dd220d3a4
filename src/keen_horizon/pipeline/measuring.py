"""Measure a range of a clip, from the last checkpoint where there is one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MeasurementError
from keen_horizon.core.finding.readout import find_readout
from keen_horizon.core.finding.sphere_readout import find_sphere_readout
from keen_horizon.core.media.frames import gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.checkpoint import restored_tracker, stored_tracker
from keen_horizon.core.motion.measure import MotionTracker, Tracker, measure_frames
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.checkpoint import restored_sphere, stored_sphere
from keen_horizon.core.motion.sphere.tracker import SphereTracker
from keen_horizon.core.motion.tracking import FINER, USUAL, Detail
from keen_horizon.pipeline.streams import ahead

Progress = Callable[[int, int], None]


def measure_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    first: int,
    last: int,
    progress: Progress = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    checkpoint: Path | None = None,
    finer: bool = False,
) -> Measurement:
    """The motion of frames `first` ... `last`. `checkpoint` names a file to resume from and write to; `finer` follows
    more points in larger pictures, which spheres know nothing of.

    The file stays until the caller has stored the result. Raises Stopped, MediaError, MeasurementError.
    """
    detail = FINER if finer else USUAL
    tracker = _resume(checkpoint, info, detail) if checkpoint else _fresh(info, detail)
    start = first + tracker.count
    if start <= last:
        decoded = gapless(read_frames(info.footage(source), start, last, times), start, times, last)
        looks = ahead((luma, tracker.small(luma), float(f.time)) for f in decoded for luma in [f.luma8()])

        def keep(state: Tracker) -> None:
            assert checkpoint is not None
            partial = checkpoint.with_name(checkpoint.name + ".part")
            partial.write_bytes(_stored(state))
            partial.replace(checkpoint)

        measure_frames(tracker, looks, last - first + 1, progress, should_stop, keep if checkpoint else None)
    if tracker.count < last - first + 1:
        raise MeasurementError(
            f"{info.name}: the file breaks off after frame {first + tracker.count - 1}. "
            "Set the out point there, or copy the file again."
        )
    measurement = tracker.finish(first)
    readout = find_sphere_readout(measurement) if measurement.sphere else find_readout(measurement, info.turns)
    return replace(measurement, readout=readout)


def _fresh(info: ClipInfo, detail: Detail) -> Tracker:
    return SphereTracker.start(info.display) if info.camera == "sphere" else MotionTracker.start(info.display, detail)


def _resume(checkpoint: Path, info: ClipInfo, detail: Detail) -> Tracker:
    restored = restored_sphere if info.camera == "sphere" else restored_tracker
    try:
        tracker: Tracker = restored(checkpoint.read_bytes())
    except (OSError, ValueError, KeyError, EOFError):
        return _fresh(info, detail)
    same = tracker.size == info.display and (not isinstance(tracker, MotionTracker) or tracker.detail == detail)
    return tracker if same else _fresh(info, detail)


def _stored(tracker: Tracker) -> bytes:
    return stored_sphere(tracker) if isinstance(tracker, SphereTracker) else stored_tracker(tracker)
