"""What moves by itself: layers other than the background, with the area that each takes up over time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, as_complex, as_points
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.belief.labels import BACKGROUND, IGNORED, UNKNOWN
from keen_horizon.core.motion.matched import analysed_size, analysed_unit
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.tracking import cell_count

LEAST_S = 0.5
EVERY_S = 0.25
LEAST_SHARE = 0.05  # of the picture's area
LEAST_TRACKS = 5
DENSITY = (64, 36)  # cells, in which a track holds what is nearest to it
NEAREST, MOSTLY = 3, 0.5
REACH_PX = 44.0  # at 640 wide: beyond the grid's own spacing of tracks, nothing is told
OUTLINE_PX = 5.0
MOST_ALIKE = 0.5  # of the frames: a subject is there


@dataclass(frozen=True)
class Subject:
    """Something that moves by itself: its layer's `name`, `share` of the picture, confidence, and polygons (C,) complex
    px of the upright clip on `frames`, clip numbering, in order.
    """

    name: int
    share: float
    confidence: float
    frames: tuple[int, ...]
    polygons: tuple[Complex, ...]

    def to_json(self) -> dict[str, Any]:
        """As in motion.json."""
        return {
            "layer": self.name,
            "share": round(self.share, 3),
            "confidence": round(self.confidence, 3),
            "keys": [
                {"frame": frame, "polygon": as_points(polygon).round(1).tolist()}
                for frame, polygon in zip(self.frames, self.polygons, strict=True)
            ],
        }


@kept_lately
def find_subjects(measurement: Measurement) -> tuple[Subject, ...]:
    """What moves by itself in a measured range, the largest first; nothing where earlier formats kept no layers."""
    evidence = measurement.evidence
    if not len(evidence.layer) or len(measurement) < 2:
        return ()
    step = max(1, round(EVERY_S * measurement.rate))
    seen: dict[int, list[tuple[int, float, float, Complex]]] = {}
    for place in range(0, len(measurement) - 1, step):
        for name, share, held, polygon in _on_frame(measurement, place):
            seen.setdefault(name, []).append((measurement.first + place, share, held, polygon))
    subjects = []
    for name, found in seen.items():
        lasted = (found[-1][0] - found[0][0]) / measurement.rate
        share = float(np.median([one[1] for one in found]))
        if lasted < LEAST_S or share < LEAST_SHARE:
            continue
        expected = 1 + (found[-1][0] - found[0][0]) // step
        sure = float(np.mean([one[2] for one in found])) * min(1.0, len(found) / expected / MOST_ALIKE)
        frames, polygons = tuple(one[0] for one in found), tuple(one[3] for one in found)
        subjects.append(Subject(name, share, sure, frames, polygons))
    return tuple(sorted(subjects, key=lambda subject: -subject.share))


def _on_frame(measurement: Measurement, place: int) -> list[tuple[int, float, float, Complex]]:
    """The other layers on a frame: name, share of the picture, how surely it holds that, and its outline."""
    evidence, size = measurement.evidence, analysed_size(measurement.size)
    rows = slice(int(evidence.starts[place]), int(evidence.starts[place + 1]))
    name = evidence.layer[rows]
    known = (name != UNKNOWN) & (name != IGNORED)
    name, points = name[known], as_complex(evidence.points[rows][known]) / analysed_unit(measurement.size)
    others, count = np.unique(name[name != BACKGROUND], return_counts=True)
    others = others[count >= LEAST_TRACKS]
    if not len(others) or len(name) < NEAREST:
        return []
    middles = _middles(size)
    off = np.abs(middles[:, None] - points[None])
    nearest = np.argpartition(off, NEAREST - 1, axis=1)[:, :NEAREST]
    found = []
    for other in others.tolist():
        held = (name[nearest] == other).mean(1)
        close = off[:, name == other].min(1) < REACH_PX
        outline = _outline((held > MOSTLY) & close, size)
        if outline is None:
            continue
        mask, polygon = outline
        share = float(mask.mean())
        if share * cell_count((size.height, size.width)) >= 1:
            found.append((other, share, float(held[mask].mean()), polygon * analysed_unit(measurement.size)))
    return found


def _middles(size: Size) -> Complex:
    across, down = _density(size)
    x = (np.arange(across) + 0.5) * size.width / across - 0.5
    y = (np.arange(down) + 0.5) * size.height / down - 0.5
    return np.asarray((x[None] + 1j * y[:, None]).ravel())


def _density(size: Size) -> tuple[int, int]:
    return DENSITY if size.width >= size.height else (DENSITY[1], DENSITY[0])


def _outline(cells: NDArray[np.bool_], size: Size) -> tuple[NDArray[np.bool_], Complex] | None:
    """The largest connected part of cells (C,), and its outline, px at 640 wide."""
    across, down = _density(size)
    count, label, facts, _ = cv2.connectedComponentsWithStats(
        cells.reshape(down, across).astype(np.uint8), connectivity=8
    )
    if count < 2:
        return None
    part = label == 1 + int(np.argmax(facts[1:, cv2.CC_STAT_AREA]))
    whole = cv2.resize(part.astype(np.float32), (size.width, size.height), interpolation=cv2.INTER_LINEAR)
    contours, _ = cv2.findContours((whole > 0.5).astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
    if not contours:
        return None
    outline = cv2.approxPolyDP(max(contours, key=cv2.contourArea), OUTLINE_PX, closed=True)[:, 0]
    return (part.ravel(), as_complex(outline)) if len(outline) >= 3 else None
