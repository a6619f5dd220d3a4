"""A clip's lens put into its treatment: by the straightedges that it holds, a filmed board, or by what is straight."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.own_lens import OwnLens
from keen_horizon.core.lens.calibration import Board
from keen_horizon.core.lens.doubt import Doubt, doubt
from keen_horizon.core.lens.over_time import lens_settings
from keen_horizon.core.lens.profile import profile_of
from keen_horizon.core.lens.straightedges import fit_lens
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.found import with_colours
from keen_horizon.core.treatment.optics import LensSettings, Straightedge
from keen_horizon.pipeline.calibrating import calibrate_clip
from keen_horizon.pipeline.colours import told_fringe
from keen_horizon.pipeline.finding import find_clip_lens

Told = tuple[Treatment, tuple[str, ...]]


def lens_by_lines(info: ClipInfo, treatment: Treatment) -> Told:
    """The treatment with the lens that its straightedges tell, and what is to be said of it. Raises LensError."""
    lines = [np.array(edge.points, np.float64) for edge in treatment.optics.straightedges]
    try:
        fit = fit_lens(lines, info.display)
    except LensError as error:
        raise LensError(f"{info.name}: {error}") from error
    notes = [
        f"line {number}: {left:.2f} px left of {bend:.2f} px."
        for number, (left, bend) in enumerate(zip(fit.residuals, fit.bends, strict=True), 1)
    ]
    if fit.odd is not None:
        notes.append(f"Line {fit.odd + 1} disagrees with the others; is it straight?")
    left_open = doubt(fit, lines, info.display)
    notes.append(_said(left_open) if left_open else f"{fit.ratio:.1f} times the noise of a hand is left: no lens fits.")
    return _with_lens(treatment, lens_settings(fit.lens)), tuple(notes)


def lens_by_itself(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    treatment: Treatment,
    progress: Callable[[int, int], None] = lambda done, total: None,
    motion: Measurement | None = None,
) -> Told:
    """The treatment with the lens found by what is straight in the clip and by its motion, where that was measured.

    Where edges alone told it, they are its straightedges. Raises LensError.
    """
    found = find_clip_lens(source, info, times, *treatment.frames(info.frames), progress, motion=motion)
    kept: dict[str, object] = {}
    if found.by == "edges":
        kept["straightedges"] = tuple(
            Straightedge.model_validate({"frame": edge.frame, "points": edge.points.round(2).tolist()})
            for edge in found.edges
        )
    elif found.focal is not None and not found.lens.kind.angular:
        kept["focal"] = found.focal
    note = f"Found by {_told_by(found)}, confidence {100 * found.confidence:.0f} %."
    return _with_lens(treatment, lens_settings(found.lens), **kept), (note,)


def _told_by(found: OwnLens) -> str:
    edges = f"{len(found.edges)} edges that agree"
    return {"edges": edges, "motion": "the camera's motion", "both": f"the camera's motion and {edges}"}[found.by]


def lens_by_board(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    treatment: Treatment,
    board: Board,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> Told:
    """The treatment with the lens found by a board that the clip films, and the fringes if it tells them.

    Raises LensError where it tells no lens.
    """
    found, colours = calibrate_clip(source, info, times, *treatment.frames(info.frames), board, progress)
    kept = colours.worth_undoing
    fringe = with_colours(treatment.optics.fringe, colours.to_json()) if kept else None
    profile = profile_of("board", info.display, found.lens, focal=found.focal, fringe=fringe)
    views = f"{len(found.used)} views of the board, {len(found.rejected)} left out"
    note = f"Found by {views}: its corners lie {found.error_px:.2f} px RMS from where the lens puts them."
    try:
        of_colours = told_fringe(info.name, colours, info.display.half_diagonal, enough=kept)
    except LensError as error:
        of_colours = str(error)
    return profile.applied(treatment, info.name, info.display, info.rate), (note, of_colours)


def _said(left_open: Doubt) -> str:
    elsewhere = f"Straight things elsewhere may stay bent by {left_open.px:.1f} px"
    if left_open.line is None:
        return f"{elsewhere}."
    (x1, y1), (x2, y2) = left_open.line[[0, -1]].round()
    ends = f"({x1:.0f}, {y1:.0f}) and ({x2:.0f}, {y2:.0f})"
    return f"{elsewhere}: one more line, anywhere near that between {ends}, would tell most."


def _with_lens(treatment: Treatment, lens: LensSettings, **more: object) -> Treatment:
    return treatment.model_copy(update={"optics": treatment.optics.with_lens(lens, **more)})
