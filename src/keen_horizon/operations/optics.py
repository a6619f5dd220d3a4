"""The glass of a clip: lenses found by straightedges, turns and corners found by what is drawn."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.doubt import doubt
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.over_time import at_frame, focal_of, lens_of, lens_settings
from keen_horizon.core.lens.perspective import corners_of, horizon_turn, through, turned_camera
from keen_horizon.core.lens.straightedges import fit_lens, judged
from keen_horizon.core.treatment.optics import MOST_MOVED, LensFamily, LensSettings, Optics, Straightedge
from keen_horizon.core.treatment.parts import LevelLine
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.material import clip_info, clip_times, source_file
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip

Floats = NDArray[np.float64]

USED_FROM = 3


def found_lens(
    session: Session, clip: Clip, edges: tuple[Straightedge, ...], family: LensFamily | None, given: LensSettings | None
) -> dict[str, Any]:
    """The lens that straightedges tell, or how straight they are with one that is `given`. Raises NotPossible."""
    size = clip_info(clip).display
    used = [i for i, edge in enumerate(edges) if len(edge.points) >= USED_FROM]
    if not used:
        raise NotPossible("Set three points or more along something straight.")
    lines = [np.array(edges[i].points, np.float64) for i in used]
    fit = judged(lens_of(given), lines, size) if given else fit_lens(lines, size, family)
    left_open = doubt(fit, lines, size)
    return {
        "lens": told(fit.lens),
        "lines": [
            {"edge": edge, "left_px": left, "bend_px": bend}
            for edge, left, bend in zip(used, fit.residuals, fit.bends, strict=True)
        ],
        "ratio": fit.ratio,
        "odd": None if fit.odd is None else used[fit.odd],
        "better": fit.better,
        "doubt_px": left_open and left_open.px,
        "asked": left_open.line.round(2).tolist() if left_open and left_open.line is not None else None,
    }


def found_turn(clip: Clip, optics: Optics, lines: tuple[LevelLine, ...]) -> dict[str, float]:
    """The roll and pitch that set lines, drawn in pixels of the upright clip, level or vertical."""
    size = clip_info(clip).display
    seen = []
    for line in lines:
        drawn = np.array([[line.x1, line.y1], [line.x2, line.y2]])
        seen.append(_flat(at_frame(optics, line.frame), drawn, size))
    roll, pitch = horizon_turn(seen, focal_of(at_frame(optics, lines[0].frame)))
    return {"roll_deg": round(roll, 4), "pitch_deg": round(float(np.clip(pitch, -60, 60)), 4)}


def found_corners(clip: Clip, optics: Optics, frame: int, quad: tuple[tuple[float, float], ...]) -> list[float]:
    """How the frame's corners move so that a drawn quadrilateral becomes a rectangle. Raises NotPossible."""
    size, here = clip_info(clip).display, at_frame(optics, frame)
    seen = _flat(here, np.array(quad), size)
    turn = here.turn
    homography = turned_camera(turn.roll_deg, turn.pitch_deg, turn.yaw_deg, focal_of(here))
    seen = through(np.asarray(np.linalg.inv(homography), np.float64), seen)
    around = np.argsort(np.arctan2(*(seen - seen.mean(0)).T[::-1]))  # clockwise on the screen, from the left
    seen = seen[around]
    seen = np.roll(seen, -int(seen.sum(1).argmin()), 0)
    corners = corners_of(seen, size)
    if corners is None or np.abs(corners).max() > MOST_MOVED:
        raise NotPossible("These four corners are too far from a rectangle. Click them anew, one at each corner.")
    return corners.round(6).tolist()


def _flat(optics: Optics, points: Floats, size: Size) -> Floats:
    """Source points (N, 2) on the flat straightened picture, half-diagonals from its middle."""
    straight = points if optics.lens is None else lens_of(optics.lens).straighten(points, size)
    return np.asarray((straight - (size.centre.real, size.centre.imag)) / size.half_diagonal)


def snapping(clip: Clip, files: FileStore, number: int, place: tuple[float, float]) -> tuple[Any, ...]:
    """What `edge_near` needs to find the clear edge nearest to a place of the upright clip. Raises RangeError."""
    info = clip_info(clip)
    info.check_frame(number)
    return info.footage(source_file(clip, files)), clip_times(clip, files), info.display, number, place


def told(lens: Lens) -> dict[str, Any]:
    """What was found of a lens, as the treatment's document has it."""
    return lens_settings(lens).model_dump(exclude={"canvas", "enlarge"})
