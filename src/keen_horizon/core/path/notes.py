"""What an editor should know of a solved range, in words: what could not be done, and for which frames."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.glass.shutter import UNKNOWN
from keen_horizon.core.lens.over_time import knows_angles
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.measurement import Measurement, measurement_notes
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.ledger import ledger, open_areas
from keen_horizon.core.path.levelling import level_note
from keen_horizon.core.path.seen_through import eased_frames, seen_through
from keen_horizon.core.treatment.document import Treatment


def solution_notes(measurement: Measurement, treatment: Treatment) -> tuple[str, ...]:
    """Of the level, where that is the intent, of what a lens allows, and of the measurement."""
    measurement = believed_as(measurement, treatment.motion.belief)
    through = seen_through(measurement, treatment)
    notes = measurement_notes(replace(measurement, readout=UNKNOWN) if through.readout else measurement)
    if through.readout:
        notes = (readout_told(through.readout, treatment), *notes)
    if through.turning:
        assert through.stage is not None
        told = "The lens tells its angles"
        if not knows_angles(treatment.optics):
            degrees = 2 * np.degrees(np.arctan(1 / through.stage.at(measurement.first).view.focal))
            told = f"The motion tells the lens's angles ({degrees:.0f}° from corner to corner of a straight picture)"
        notes = (f"{told}: shake is taken out by turning the camera behind it.", *notes)
    if treatment.motion.intent == "level":
        return (level_note(measurement, treatment.motion.level.lines), *notes)
    return notes


def lost_notes(pins: tuple[PinTrack, ...]) -> list[str]:
    """Where followed points were lost."""
    return [
        f"Point {number} was hidden or lost in {stretches_told(pin.trail.confidence <= 0, pin.first)}: there it goes "
        "with its surroundings. Where that is wrong, set it again."
        for number, pin in enumerate(pins, 1)
        if (pin.trail.confidence <= 0).any()
    ]


def _told_apart(path: CameraPath) -> str:
    """What a path that is level and glides corrects, each by itself."""
    made = path.measured.poses.inverse() @ path.steadied.poses
    turned = np.degrees(np.abs(np.angle(made.z))).max()
    shifted = 100 * np.abs(made.t).max() / path.size.width
    sized = 100 * np.abs(np.abs(made.z) - 1).max()
    return (
        f"Put upright by up to {turned:.1f}°. Gliding: moved by up to {shifted:.1f} % of the width, "
        f"sized by up to {sized:.1f} %."
    )


def outcome_notes(path: CameraPath, treatment: Treatment, pins: tuple[PinTrack, ...] = ()) -> tuple[str, ...]:
    """Of points that were lost, of a zoom limit that costs steadiness, and of gaps that nobody asked for."""
    notes = lost_notes(pins)
    if treatment.motion.glides_level:
        notes.append(_told_apart(path))
    eased = eased_frames(path.stage)
    if eased.any():
        assert path.stage is not None
        notes.append(
            f"In {stretches_told(eased, path.stage.first)} the rows moved further than the zoom limit leaves room for: "
            "they are put right in part."
        )
    figures = ledger(path)
    if path.bending is not None:
        notes.append(
            f"The picture is bent by up to {figures.bend_px:.1f} px, and no length by more than "
            f"{100 * figures.bend_stretch:.1f} %: near and far move apart by {figures.apart_after_px:.2f} px a frame "
            f"instead of {figures.apart_before_px:.2f} px."
        )
    elif treatment.motion.bend_limit_px:
        notes.append("Nothing is bent: bending goes with Hold, Glide and Level that glides.")
    if figures.limited:
        more = f"a zoom of {figures.wanted_zoom:.3f}x" if figures.wanted_zoom > figures.zoom else "more zoom"
        notes.append(f"This path asks for {more}. The limit holds it to {figures.zoom:.3f}x; the steadiness gives way.")
    gaps = open_areas(path) > 0
    if gaps.any() and not treatment.gaps_wanted:
        notes.append(_gap_told(path, treatment, stretches_told(gaps, path.first)))
    return tuple(notes)


def readout_told(readout: float, treatment: Treatment) -> str:
    way = "the last row first" if readout < 0 else "the first row first"
    by = "as measured" if treatment.motion.rolling_shutter == "measured" else "set by hand"
    return f"The rolling shutter is undone: {abs(readout):.2f} of a frame, {way}, {by}."


def _gap_told(path: CameraPath, treatment: Treatment, where: str) -> str:
    if treatment.edges.window.untouched and path.region is not None and path.region.dead is not None:
        return f"The zoom limit leaves dead corners in sight in {where}. Raise it, or let less light count as picture."
    return f"The window as it was moved leaves a gap in {where}."


def stretches_told(marked: NDArray[np.bool_], first: int) -> str:
    """Where runs of marked frames lie, in words."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], marked, [False]]).astype(int)))
    runs = [(first + start, first + end - 1) for start, end in zip(edges[::2], edges[1::2], strict=True)]
    words = [f"frame {start}" if start == end else f"frames {start}-{end}" for start, end in runs]
    return ", ".join(words[:4]) + (f" and {len(words) - 4} more stretches" if len(words) > 4 else "")
