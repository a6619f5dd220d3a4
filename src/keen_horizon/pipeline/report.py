"""The open report and path documents of a corrected clip (docs/formats.md)."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.geometry.picture import resized
from keen_horizon.core.mapping.light import undone_glass
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.belief.doubts import confidence_of
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.any_path import AnyPath
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.ledger import ledger, pinch_points
from keen_horizon.core.path.sphere.figures import sphere_ledger
from keen_horizon.core.path.sphere.sphere_path import SpherePath
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.rendering import RenderFacts

VIEW_NAMES = ("yaw_deg", "pitch_deg", "roll_deg", "field_deg", "roundness")


def report_of(
    path: AnyPath,
    treatment: Treatment,
    info: ClipInfo,
    facts: RenderFacts,
    seconds: dict[str, float],
    notes: tuple[str, ...],
    measurement: Measurement,
) -> dict[str, Any]:
    """The `R.json` document."""
    if isinstance(path, SpherePath):
        corrected = sphere_ledger(path).to_json()
    else:
        believed = believed_as(measurement, treatment.motion.belief)
        told = {"readout": measurement.readout.to_json(), "confidence": confidence_of(believed)}
        corrected = _of_frames(path, treatment, info) | told
    return {
        "clip": info.name,
        "frames": facts.frames,
        **corrected,
        "gap_pixels": facts.gap_pixels,
        "seconds": {name: round(value, 3) for name, value in seconds.items()},
        "output": {"width": facts.width, "height": facts.height, "codec": facts.codec, "pix_fmt": facts.pix_fmt},
        "goes_along": [asdict(fate) for fate in clip_fates(info, treatment)],
        "notes": [*notes, *facts.notes()],
    }


def _of_frames(path: CameraPath, treatment: Treatment, info: ClipInfo) -> dict[str, Any]:
    figures = ledger(path, shown=path.stage.kept_area() if path.stage else 1.0)
    return {
        "zoom": figures.zoom,
        "kept_area": figures.kept_area,
        "shake_before_px": figures.shake_before_px,
        "shake_after_px": figures.shake_after_px,
        "bend_px": figures.bend_px,
        "bend_stretch": figures.bend_stretch,
        "apart_before_px": figures.apart_before_px,
        "apart_after_px": figures.apart_after_px,
        "glass": undone_glass(treatment.optics, path.size, path.first + np.arange(len(path.zoom))),
        "pinch_points": pinch_points(path, info.rate),
    }


def path_document(path: AnyPath, info: ClipInfo, times: NDArray[np.float64]) -> dict[str, Any]:
    """The `P.json` document: out_from_src per frame, in stored pixels of output and source, and the 2-D transform; of a
    sphere its camera's turns.
    """
    if isinstance(path, SpherePath):
        return _sphere_path(path, times)
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


def _sphere_path(path: SpherePath, times: NDArray[np.float64]) -> dict[str, Any]:
    """Where a sphere's camera stood and where it is steadied to, as quaternions x, y, z, w, seen from the first frame;
    and where the view looks out of what was steadied.
    """
    stood, steadied = (np.asarray(turns.as_quat(canonical=True)) for turns in (path.measured, path.steadied))
    looks = path.looks()
    return {
        "camera": "sphere",
        "frames": [
            {
                "frame": path.first + i,
                "time": float(times[path.first + i] - times[0]),
                "world_from_camera": stood[i].tolist(),
                "world_from_steadied": steadied[i].tolist(),
                "view": None if looks is None else _look(looks[i]),
            }
            for i in range(len(path))
        ],
    }


def _look(figures: NDArray[np.float64]) -> dict[str, float]:
    told = [*np.degrees(figures[:4]).tolist(), float(figures[4])]
    return dict(zip(VIEW_NAMES, told, strict=True))


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
    """The path document as CSV: frame, time, m00 ... m22; of a sphere both quaternions, and the view."""
    if document.get("camera") == "sphere":
        return _sphere_csv(document)
    header = ["frame", "time", *(f"m{r}{c}" for r in range(3) for c in range(3))]
    return _csv(header, ([f"{v:.9g}" for line in row["matrix"] for v in line] for row in document["frames"]), document)


def _sphere_csv(document: dict[str, Any]) -> str:
    turns = ("world_from_camera", "world_from_steadied")
    header = ["frame", "time", *(f"{turn}_{axis}" for turn in turns for axis in "xyzw"), *VIEW_NAMES]
    rows = (
        [
            *(f"{value:.9g}" for turn in turns for value in row[turn]),
            *(f"{row['view'][name]:.6f}" if row["view"] else "" for name in VIEW_NAMES),
        ]
        for row in document["frames"]
    )
    return _csv(header, rows, document)


def transforms_csv(document: dict[str, Any]) -> str:
    """The path document's 2-D transforms as CSV: frame, time, shift, turn, scale, tilt. Raises TreatmentError for a
    sphere's.
    """
    if document.get("camera") == "sphere":
        raise TreatmentError("A sphere's turns are no 2-D transforms: take its path as JSON or CSV.")
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
