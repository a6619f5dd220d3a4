"""The open report and path documents of a corrected clip (docs/formats.md)."""

from __future__ import annotations

import csv
import io
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import resized
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.path.ledger import ledger, pinch_points
from keen_horizon.core.path.solve import CameraPath
from keen_horizon.pipeline.rendering import RenderFacts


def correction_report(
    path: CameraPath, info: ClipInfo, facts: RenderFacts, seconds: dict[str, float]
) -> dict[str, Any]:
    """The `R.json` document."""
    figures = ledger(path)
    return {
        "clip": info.name,
        "frames": facts.frames,
        "zoom": figures.zoom,
        "kept_area": figures.kept_area,
        "shake_before_px": figures.shake_before_px,
        "shake_after_px": figures.shake_after_px,
        "gap_pixels": facts.gap_pixels,
        "pinch_points": pinch_points(path, info.rate),
        "seconds": {name: round(value, 3) for name, value in seconds.items()},
        "output": {
            "width": facts.width,
            "height": facts.height,
            "codec": facts.codec,
            "pix_fmt": facts.pix_fmt,
        },
    }


def path_document(path: CameraPath, info: ClipInfo, times: NDArray[np.float64]) -> dict[str, Any]:
    """The `P.json` document: out_from_src per frame, in stored pixels of output and source."""
    display_from_coded = resized(info.display, info.coded)
    matrices = np.linalg.inv(display_from_coded) @ path.out_from_src() @ display_from_coded
    return {
        "frames": [
            {"frame": path.first + i, "time": float(times[path.first + i] - times[0]), "matrix": m.tolist()}
            for i, m in enumerate(matrices)
        ]
    }


def path_csv(document: dict[str, Any]) -> str:
    """The path document as CSV: frame, time, m00 ... m22."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["frame", "time", *(f"m{r}{c}" for r in range(3) for c in range(3))])
    for row in document["frames"]:
        writer.writerow([row["frame"], f"{row['time']:.6f}", *(f"{v:.9g}" for line in row["matrix"] for v in line)])
    return out.getvalue()
