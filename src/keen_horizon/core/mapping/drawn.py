"""A path and its optics lowered for a viewer: matrices, tables and figures, so that no lens is solved there.

What a viewer does with them is the frame map (see `staged`): matrix, projection, homography, radial table, rows.
"""

from __future__ import annotations

import hashlib
import json
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.glass.shutter import RowMotion
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.lens import equivalent_focal_length, fields_of_view, radial_table
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.projection import UNROLLINGS
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.mapping.packed import packed, packed_whole
from keen_horizon.core.path.bending.bent import Bending
from keen_horizon.core.path.camera_path import CameraPath, recentred

Floats = NDArray[np.float64]

TABLE = 2048
FINEST = 32000  # steps that a mesh's furthest control is told in
TABLE_EACH = 512  # where every frame has one
MOST_STAGES = 1200  # of a longer range every so many frames have one


def drawn_path(path: CameraPath) -> dict[str, Any]:
    """How frames are drawn: `src_from_out` comes before a projection, `turned` after it, see `CameraPath.projected`.

    `lending` tells where frames stood, so that a viewer can borrow from those it has just shown.
    """
    before = recentred(path.windows(), path.size) if path.projected else path.matrices()
    return {
        "src_from_out": _rows(before),
        "turned": _rows(_turns(path)) if path.projected else None,
        "lending": _lending(path),
        "bend": drawn_bend(path.bending),
    }


def drawn_bend(bending: Bending | None) -> dict[str, Any] | None:
    """The controls of every frame's mesh, see `MeshOverTime`: whole steps of `unit` px, int16, x and y by turns, row by
    row, in base64.
    """
    if bending is None:
        return None
    mesh, unit = bending.mesh, max(bending.largest, 1e-3) / FINEST
    rows, columns = mesh.grid.shape
    return {"rows": rows, "columns": columns, "unit": unit, "controls": packed_whole(mesh.controls / unit)}


def _turns(path: CameraPath) -> Floats:
    """What comes after a projection (N, 3, 3), half-diagonals of the flat picture at the source's scale."""
    scale = _scale(path)
    return np.asarray(scale @ path.homographies @ np.linalg.inv(scale))


def _lending(path: CameraPath) -> dict[str, Any] | None:
    """`reference_from_src` of every frame, in the unit of `_turns` after a projection, else in pixels."""
    if path.borrowed is None:
        return None
    move = np.array([[1, 0, -path.size.centre.real], [0, 1, -path.size.centre.imag], [0, 0, 1]])
    to_px = np.asarray(np.linalg.inv(_scale(path))) if path.projected else move
    return {
        "reach": max(path.borrowed.offsets),
        "reference_from_src": _poses(path.measured.from_px() @ to_px),
        "growth": np.exp(path.measured.growth).round(9).tolist(),
    }


def _scale(path: CameraPath) -> Floats:
    """From px to half-diagonals of the flat picture at the source's scale (N, 3, 3)."""
    assert path.stage is not None
    steps = np.array([path.stage.at(path.first + i).step for i in range(len(path))]) / path.size.half_diagonal
    scale = np.zeros((len(path), 3, 3))
    scale[:, 0, 0] = scale[:, 1, 1] = steps
    scale[:, 2, 2] = 1
    return scale


def _rows(matrices: Floats) -> Any:
    """Matrices (N, 3, 3) as rows of nine; the small last row keeps its digits."""
    rows = matrices.reshape(len(matrices), 9) / matrices[:, 2:, 2]
    rows[:, :6] = rows[:, :6].round(8)
    rows[:, 6:] = rows[:, 6:].round(12)
    return rows.tolist()


def _poses(matrices: Floats) -> Any:
    """Matrices (N, 3, 3) as rows of nine, each known up to a factor above 0: a camera may have turned right round."""
    rows = matrices.reshape(len(matrices), 9)
    return (rows / np.linalg.norm(rows, axis=1, keepdims=True)).round(14).tolist()


@kept_lately
def drawn_optics(optics: OpticsStage) -> dict[str, Any]:
    """What a viewer needs to bend as the renderer does: one stage for every `every` frames, and how the rows of each
    moved. And figures to show, and a name that is the same for the same.
    """
    every = -(-len(optics.stages) // MOST_STAGES)
    shown = optics.stages[::every]
    table = TABLE if len(optics.stages) == 1 else TABLE_EACH
    drawn = {
        "every": every,
        "stages": [_drawn(stage, table) for stage in shown],
        "unrolling": _drawn_unrolling(shown[0].view.projection, table),
        "rows": _drawn_rows(optics.rows),
        "kept_area": optics.kept_area(),
    }
    return drawn | {"name": hashlib.sha256(json.dumps(drawn).encode()).hexdigest()[:16]}


def _drawn_unrolling(projection: str, table: int) -> dict[str, Any] | None:
    """See `Unrolling`: its three factors at even steps up to its reach, float32 in base64; the same for all frames."""
    if projection == "straight":
        return None
    unrolling = UNROLLINGS[projection]
    factors = unrolling.factors(np.linspace(0, unrolling.reach, table))
    return {"across": unrolling.across, "reach": unrolling.reach, "factors": packed(np.stack(factors, -1))}


def _drawn_rows(rows: RowMotion | None) -> dict[str, Any] | None:
    """See `RowMotion.lowered`; `figures` are float32 in base64, frame by frame."""
    if rows is None:
        return None
    return {"turns": rows.turns % 4, "figures": packed(rows.lowered())}


def _drawn(stage: LensStage, table: int) -> dict[str, Any]:
    """See core.lens.lens and core.lens.stage for the terms; `ratios` are float32 in base64."""
    lens, size = stage.lens, stage.size
    reach, ratios = radial_table(lens)
    places = np.linspace(0, len(ratios) - 3, table)
    drawn = np.interp(places, np.arange(len(ratios)), ratios)
    fields = fields_of_view(lens, size)
    return {
        "reach": reach,
        "ratios": packed(drawn),
        "step": stage.step,
        "squeeze": lens.squeeze,
        "centre": [lens.centre.real, lens.centre.imag],
        "decentring": lens.decentring.ravel().tolist(),
        "homography": list(stage.view.homography),
        "focal": stage.view.focal,
        "fields_of_view": fields,
        "equivalent_mm": equivalent_focal_length(fields[2]) if fields and fields[2] < 179 else None,
    }
