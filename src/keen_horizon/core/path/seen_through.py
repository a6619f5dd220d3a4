"""What lies between the filmed picture and the one that is steadied: the lens, the rows, and the chart of the motion.

One decision, made here and told to the editor from here: whether shake is taken out by moving the straightened picture,
or by turning the camera behind a lens whose angles are known (see `turning`); and which readout is undone.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.finding.row_motion import row_motion
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.glass.shutter import LEAST_SEEN, RowMotion
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.over_time import OpticsStage, knows_angles, optics_stage, plain_stage
from keen_horizon.core.lens.region import SeenRegion, holds_frame
from keen_horizon.core.motion.focal import told_by_motion
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.motion import Motion

EASING_ROUNDS = 4
NOTHING = 1e-3  # of room, below which no row can be moved


@dataclass(frozen=True)
class SeenThrough:
    """The `stage` of a range, None where nothing lies between; `turning` whether its angles are known and the camera is
    turned behind it; `readout` the one that is undone, frames, 0 where none is.
    """

    stage: OpticsStage | None
    turning: bool
    readout: float


def seen_through(measurement: Measurement, treatment: Treatment) -> SeenThrough:
    """What a treatment puts between a measured range and its path. Raises LensError."""
    size, first = measurement.size, measurement.first
    lens = optics_stage(treatment.optics, size, first, measurement.last)
    readout = readout_of(treatment.motion, measurement)
    rows = row_motion(measurement, lens, readout) if readout else None
    if rows is None:
        told = lens and _with_angles(measurement, treatment, lens)
        return SeenThrough(told or lens, told is not None, 0.0)
    stage = _read(lens, rows, first)
    told = _with_angles(measurement, treatment, stage) if lens else None
    return SeenThrough(told or stage, told is not None, readout)


def readout_of(motion: Motion, measurement: Measurement) -> float:
    """The readout, frames, that a treatment undoes; 0 where none is."""
    wanted = motion.rolling_shutter
    if wanted == "off":
        return 0.0
    if wanted == "measured":
        return measurement.readout.frames if measurement.readout.seen else 0.0
    return wanted if abs(wanted) >= LEAST_SEEN else 0.0


def room_for_rows(stage: OpticsStage, count: int) -> Floats:
    """By how much a window must be shrunk (N,) on `count` frames that are not steadied, to hold no gap that the rows
    leave; 1 where there are none.
    """
    if stage.rows is None:
        return np.ones(count)
    region = SeenRegion.of(stage, stage.stages[0].size, stage.first, count)
    if not region.whole:
        return np.ones(count)  # gaps are wanted
    frames = stage.first + np.arange(count)
    return np.maximum(1.0, region.demand(np.broadcast_to(np.eye(3), (count, 3, 3)), frames))


def within_room(stage: OpticsStage, room: float, count: int) -> OpticsStage:
    """The stage, whose rows are undone only as far as a window shrunk by `room` allows, frame by frame."""
    if stage.rows is None:
        return stage
    if room - 1 < NOTHING:
        return stage.with_rows(None)
    for _ in range(EASING_ROUNDS):
        needed = room_for_rows(stage, count)
        if (needed <= room).all():
            return stage
        assert stage.rows is not None
        share = np.where(needed > room, (room - 1) / np.maximum(needed - 1, NOTHING), 1.0)
        stage = stage.with_rows(stage.rows.eased(np.minimum(share, 1.0) ** 1.02))
    return stage.with_rows(None)


def eased_frames(stage: OpticsStage | None) -> NDArray[np.bool_]:
    """The frames (N,) whose rows are undone in part; none where no rows are."""
    if stage is None or stage.rows is None:
        return np.zeros(0, np.bool_)
    return np.asarray(stage.rows.taken < 1)


@kept_lately
def _read(lens: OpticsStage | None, rows: RowMotion, first: int) -> OpticsStage:
    """A lens's stage with rows; the very same for the same."""
    return (lens or plain_stage(rows.size, first)).with_rows(rows)


def _with_angles(measurement: Measurement, treatment: Treatment, stage: OpticsStage) -> OpticsStage | None:
    """The optics with their angles, where the motion is corrected by turning the camera behind them; else None.

    The lens, a focal length or the motion itself must tell the angles, turns of every direction be allowed, and a
    projection of the delivered picture hang on angles that are told and leave room to turn in.
    """
    motion, optics = treatment.motion, treatment.optics
    allowed = motion.intent in ("hold", "glide") and {"shift", "turn"} <= set(motion.freedom)
    if not allowed or not all(holds_frame(glass) for glass in stage.stages):
        return None
    if knows_angles(optics):
        return stage
    return told_by_motion(measurement, stage) if optics.projection == "straight" else None
