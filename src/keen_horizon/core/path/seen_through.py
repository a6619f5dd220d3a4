"""What lies between the filmed picture and the one that is steadied: the lens, the rows, where the picture is dead, and
the chart of the motion.

One decision, made here and told to the editor from here: whether shake is taken out by moving the straightened picture,
or by turning the camera behind a lens whose angles are known (see `turned_camera`); and which readout is undone.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.finding.row_motion import row_motion
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.glass.dead import DeadEdge
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
GIVING_ROUNDS = 12  # of halving by how much a dead edge gives way: to a 4,000th of the half-diagonal


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
    stage = lens if rows is None else _read(lens, rows, first)
    told = _with_angles(measurement, treatment, stage) if lens and stage else None
    falloff = treatment.optics.falloff
    edge = None if falloff is None else falloff.picture_ends
    seen = told or stage
    if edge is not None:
        seen = _edged(seen or _plain(size, first), edge)
    return SeenThrough(seen, told is not None, readout if rows is not None else 0.0)


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
    region = SeenRegion.of(stage if stage.dead is None else stage.with_dead(None), _size(stage), stage.first, count)
    if not region.whole:
        return np.ones(count)  # gaps are wanted
    frames = stage.first + np.arange(count)
    return np.maximum(1.0, region.demand(_unmoved(count), frames))


@dataclass(frozen=True)
class Hiding:
    """What hides a dead `edge` on frames that are not steadied: the window's middle, px, and how far it is shrunk."""

    middle: complex
    zoom: float
    edge: DeadEdge | None


NOTHING_HIDDEN = Hiding(0j, 1.0, None)


@kept_lately
def hiding(stage: OpticsStage | None, count: int, framed: bool) -> Hiding:
    """The smallest zoom of one window on `count` frames that holds nothing dead, and where its middle then lies.

    `framed` windows keep to the straightened frame, too.
    """
    return NOTHING_HIDDEN if stage is None or stage.dead is None else _hidden(stage, count, framed)


def _hidden(stage: OpticsStage, count: int, framed: bool) -> Hiding:
    stage = stage.with_rows(None)
    count = 1 if stage.steady else count
    region = SeenRegion.of(stage, _size(stage), stage.first, count)
    if region.dead is None:
        return NOTHING_HIDDEN  # gaps are wanted
    frames, homographies = stage.first + np.arange(count), _unmoved(count)
    middle = region.roomiest(homographies, frames, framed)
    zoom = float(region.demand(homographies, frames, window_about(middle)).max())
    if framed:
        size = _size(stage)
        zoom = max(zoom, 1 / (1 - 2 * abs(middle.real) / size.width), 1 / (1 - 2 * abs(middle.imag) / size.height))
    return Hiding(middle, max(1.0, zoom), stage.dead)


def hiding_in_part(stage: OpticsStage, zoom: float, count: int, framed: bool) -> Hiding:
    """What a zoom hides of a dead edge: the edge as far out as it must be taken to lie for that."""
    assert stage.dead is not None
    low, high = 0.0, 1.0  # half-diagonals
    for _ in range(GIVING_ROUNDS):
        middle = (low + high) / 2
        fits = _hidden(stage.with_dead(stage.dead.moved(middle)), count, framed).zoom <= zoom
        low, high = (low, middle) if fits else (middle, high)
    return _hidden(stage.with_dead(stage.dead.moved(high)), count, framed)


def window_about(middle: complex) -> Floats:
    """The window (1, 3, 3) of the frame's own size about another place, px from the middle."""
    window = np.eye(3)[None].copy()
    window[0, :2, 2] = middle.real, middle.imag
    return window


def _unmoved(count: int) -> Floats:
    return np.broadcast_to(np.eye(3), (count, 3, 3))


def _size(stage: OpticsStage) -> Size:
    return stage.stages[0].size


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


@lru_cache(maxsize=16)
def _plain(size: Size, first: int) -> OpticsStage:
    """The stage that leaves everything where it is; the very same for the same."""
    return plain_stage(size, first)


@kept_lately
def _edged(stage: OpticsStage, dead: DeadEdge) -> OpticsStage:
    """A stage with its dead edge; the very same for the same."""
    return stage.with_dead(dead)


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
