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
class Outlined:
    """A layer on a frame, clip numbering: its `name`, `share` of the picture, how `sure`ly it holds that, its outline
    (C,) and the place of one of its points, complex px of the upright clip.
    """

    frame: int
    name: int
    share: float
    sure: float
    polygon: Complex
    point: complex

    def to_json(self) -> dict[str, Any]:
        """Plain values: what an editor is shown, and what says that this is what stands still."""
        return {
            "frame": self.frame,
            "x": round(self.point.real, 1),
            "y": round(self.point.imag, 1),
            "polygon": as_points(self.polygon).round(1).tolist(),
        }


@dataclass(frozen=True)
class Subject:
    """Something that moves by itself: its layer's `name`, `share` of the picture, confidence, and how it is seen."""

    name: int
    share: float
    confidence: float
    seen: tuple[Outlined, ...]

    @property
    def middle(self) -> Outlined:
        """It halfway through the time it is seen."""
        return self.seen[len(self.seen) // 2]

    def to_json(self) -> dict[str, Any]:
        """As in motion.json."""
        return {
            "layer": self.name,
            "share": round(self.share, 3),
            "confidence": round(self.confidence, 3),
            "keys": [{"frame": one.frame, "polygon": as_points(one.polygon).round(1).tolist()} for one in self.seen],
        }


@kept_lately
def find_subjects(measurement: Measurement) -> tuple[Subject, ...]:
    """What moves by itself in a measured range, the largest first; nothing where earlier formats kept no layers."""
    if not len(measurement.evidence.layer) or len(measurement) < 2:
        return ()
    step = max(1, round(EVERY_S * measurement.rate))
    seen: dict[int, list[Outlined]] = {}
    for place in range(0, len(measurement) - 1, step):
        for one in layers_on(measurement, measurement.first + place):
            if one.name != BACKGROUND:
                seen.setdefault(one.name, []).append(one)
    subjects = []
    for name, found in seen.items():
        lasted = found[-1].frame - found[0].frame
        share = float(np.median([one.share for one in found]))
        if lasted < LEAST_S * measurement.rate or share < LEAST_SHARE:
            continue
        there = len(found) / (1 + lasted // step)
        sure = float(np.mean([one.sure for one in found])) * min(1.0, there / MOST_ALIKE)
        subjects.append(Subject(name, share, sure, tuple(found)))
    return tuple(sorted(subjects, key=lambda subject: -subject.share))


def layers_on(measurement: Measurement, frame: int) -> list[Outlined]:
    """The layers on a frame, clip numbering, where there is more than one; none on the range's last frame."""
    evidence, size, unit = measurement.evidence, analysed_size(measurement.size), analysed_unit(measurement.size)
    place = frame - measurement.first
    rows = slice(int(evidence.starts[place]), int(evidence.starts[place + 1]))
    name = evidence.layer[rows]
    known = (name != UNKNOWN) & (name != IGNORED)
    name, points = name[known], as_complex(evidence.points[rows][known]) / unit
    names, count = np.unique(name, return_counts=True)
    names = names[count >= LEAST_TRACKS]
    if not (names != BACKGROUND).any() or len(name) < NEAREST:
        return []
    off = np.abs(_middles(size)[:, None] - points[None])
    nearest = np.argpartition(off, NEAREST - 1, axis=1)[:, :NEAREST]
    found = []
    for layer in names.tolist():
        members = points[name == layer]
        held = (name[nearest] == layer).mean(1)
        close = off[:, name == layer].min(1) < REACH_PX
        outline = _outline((held > MOSTLY) & close, size)
        if outline is None:
            continue
        mask, polygon = outline
        share = float(mask.mean())
        if share * cell_count((size.height, size.width)) >= 1:
            inner = complex(members[np.abs(members - np.median(members.real) - 1j * np.median(members.imag)).argmin()])
            found.append(Outlined(frame, layer, share, float(held[mask].mean()), polygon * unit, inner * unit))
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
