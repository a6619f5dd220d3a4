"""The open report and path documents of a corrected clip (docs/formats.md)."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import resized
from keen_horizon.core.glass.shutter import Readout
from keen_horizon.core.mapping.light import undone_glass
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.ledger import ledger, pinch_points
from keen_horizon.core.path.sphere.figures import sphere_ledger
from keen_horizon.core.path.sphere.sphere_path import SpherePath
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.rendering import RenderFacts


def correction_report(
    path: CameraPath,
    treatment: Treatment,
    info: ClipInfo,
    facts: RenderFacts,
    seconds: dict[str, float],
    notes: tuple[str, ...],
    readout: Readout,
) -> dict[str, Any]:
    """The `R.json` document."""
    figures = ledger(path, shown=path.stage.kept_area() if path.stage else 1.0)
    return {
        "clip": info.name,
        "frames": facts.frames,
        "zoom": figures.zoom,
        "kept_area": figures.kept_area,
        "shake_before_px": figures.shake_before_px,
        "shake_after_px": figures.shake_after_px,
        "gap_pixels": facts.gap_pixels,
        "glass": undone_glass(treatment.optics, path.size, path.first + np.arange(len(path.zoom))),
        "pinch_points": pinch_points(path, info.rate),
        "readout": readout.to_json(),
        "seconds": {name: round(value, 3) for name, value in seconds.items()},
        "output": _output(facts),
        "goes_along": [asdict(fate) for fate in clip_fates(info, treatment)],
        "notes": list(notes),
    }


def sphere_report(
    path: SpherePath,
    treatment: Treatment,
    info: ClipInfo,
    facts: RenderFacts,
    seconds: dict[str, float],
    notes: tuple[str, ...],
) -> dict[str, Any]:
    """The `R.json` document of a sphere."""
    return {
        "clip": info.name,
        "frames": facts.frames,
        **sphere_ledger(path).to_json(),
        "gap_pixels": facts.gap_pixels,
        "seconds": {name: round(value, 3) for name, value in seconds.items()},
        "output": _output(facts),
        "goes_along": [asdict(fate) for fate in clip_fates(info, treatment)],
        "notes": list(notes),
    }


def _output(facts: RenderFacts) -> dict[str, Any]:
    return {"width": facts.width, "height": facts.height, "codec": facts.codec, "pix_fmt": facts.pix_fmt}


def path_document(path: CameraPath, info: ClipInfo, times: NDArray[np.float64]) -> dict[str, Any]:
    """The `P.json` document: out_from_src per frame, in stored pixels of output and source, and the 2-D transform."""
    display_from_coded = resized(info.display, info.coded)
    matrices = np.linalg.inv(display_from_coded) @ path.out_from_src() @ display_from_coded
    return {
        "frames": [
            {
                "frame": path.first + i,
                "time": float(times[path.first + i] - times[0]),
                "matrix": (matrix / matrix[2, 2]).tolist(),
                "transform": transform,
            }
            for i, (matrix, transform) in enumerate(zip(matrices, _transforms(path), strict=True))
        ]
    }


def _transforms(path: CameraPath) -> list[dict[str, float]]:
    """What is done to each frame about the middle of the picture, in upright square pixels: out = scale * R(turn)
    * src + shift, and the perspective row that is left.
    """
    matrices = np.linalg.inv(path.centred_matrices())
    matrices /= matrices[:, 2:, 2:]
    scale = np.sqrt(np.abs(np.linalg.det(matrices[:, :2, :2])))
    return [
        {
            "shift_x_px": float(m[0, 2]), "shift_y_px": float(m[1, 2]),
            "turn_deg": float(np.degrees(np.arctan2(m[1, 0] - m[0, 1], m[0, 0] + m[1, 1]))), "scale": float(size),
            "tilt_x": float(m[2, 0]), "tilt_y": float(m[2, 1]),
        }
        for m, size in zip(matrices, scale, strict=True)
    ]  # fmt: skip


def path_csv(document: dict[str, Any]) -> str:
    """The path document as CSV: frame, time, m00 ... m22."""
    header = ["frame", "time", *(f"m{r}{c}" for r in range(3) for c in range(3))]
    return _csv(header, ([f"{v:.9g}" for line in row["matrix"] for v in line] for row in document["frames"]), document)


def transforms_csv(document: dict[str, Any]) -> str:
    """The path document's 2-D transforms as CSV: frame, time, shift, turn, scale, tilt."""
    names = list(document["frames"][0]["transform"])
    rows = ([f"{row['transform'][name]:.9g}" for name in names] for row in document["frames"])
    return _csv(["frame", "time", *names], rows, document)


def _csv(header: list[str], rows: Iterable[list[str]], document: dict[str, Any]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    for frame, row in zip(document["frames"], rows, strict=True):
        writer.writerow([frame["frame"], f"{frame['time']:.6f}", *row])
    return out.getvalue()
