"""Treating a clip: measuring it, solving for a treatment, keeping versions, rendering."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from keen_horizon.core.mapping.output import OutputFrame, output_frame
from keen_horizon.core.path.ledger import ledger, pinches, shake_curves
from keen_horizon.core.path.solve import CameraPath, solve_path
from keen_horizon.core.path.tradeoff import TradePoint, smallest_zoom, trade_off
from keen_horizon.core.path.window import gap_areas
from keen_horizon.core.path.wish import keyed
from keen_horizon.core.render.warp import suggested_sharpening
from keen_horizon.core.treatment import Motion, Treatment
from keen_horizon.operations.clips import next_letter, start_work
from keen_horizon.operations.errors import NotPossible, NotThere
from keen_horizon.operations.material import clip_info, clip_measurement, covering_range
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Render, Version, Work


def request_measurement(session: Session, clip: Clip, treatment: Treatment) -> Work | None:
    """Queue measuring of the treatment's range; None when it is measured already."""
    first, last = treatment.frames(clip_info(clip).frames)
    if covering_range(session, clip, first, last) is not None:
        return None
    for work in clip.works:
        if work.kind == "measure" and work.state.open and (work.first, work.last) == (first, last):
            return work
    return start_work(session, Work(kind="measure", clip_id=clip.id, first=first, last=last))


def save_draft(session: Session, clip: Clip, treatment: Treatment) -> None:
    """Keep the treatment the editor is working on."""
    treatment.frames(clip_info(clip).frames)
    clip.draft = treatment.to_json()


def save_version(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> Version:
    """Keep a treatment under the next letter."""
    first, last = treatment.frames(clip_info(clip).frames)
    zoom = None
    if covering_range(session, clip, first, last) is not None:
        zoom = ledger(solve_path(clip_measurement(session, files, clip, treatment), treatment)).zoom
    version = Version(clip_id=clip.id, letter=next_letter(clip.versions), treatment=treatment.to_json(), zoom=zoom)
    clip.versions.append(version)
    session.flush()
    return version


def find_version(clip: Clip, letter: str) -> Version:
    """A version by letter. Raises NotThere."""
    for version in clip.versions:
        if version.letter == letter:
            return version
    raise NotThere(f"{clip.name} has no version {letter}.")


def request_render(session: Session, clip: Clip, treatment: Treatment) -> Work:
    """Queue a render of a treatment whose range has been measured."""
    first, last = treatment.frames(clip_info(clip).frames)
    if covering_range(session, clip, first, last) is None:
        raise NotPossible(f"{clip.name}: measure the motion of frames {first}-{last} before rendering.")
    render = Render(clip_id=clip.id, treatment=treatment.to_json())
    session.add(render)
    session.flush()
    return start_work(session, Work(kind="render", clip_id=clip.id, render_id=render.id))


@dataclass(frozen=True)
class Solution:
    """A solved path as the interface draws it."""

    path: CameraPath
    rate: float
    output: OutputFrame
    motion: Motion

    def to_json(self) -> dict[str, Any]:
        """Figures, curves, pinch points and the sampling map, one row-major 3x3 matrix a frame."""
        before, after = shake_curves(self.path)
        percent = 100 / self.path.size.width
        frames = self.path.first + np.arange(len(self.path.zoom))
        figures = ledger(self.path, self.output.magnified)
        return {
            "first": self.path.first,
            "frames": len(self.path.zoom),
            "size": [self.path.size.width, self.path.size.height],
            "ledger": figures.to_json(),
            "output": [self.output.size.width, self.output.size.height],
            "sharpen": suggested_sharpening(1 / figures.softness),
            "pinches": [asdict(pinch) for pinch in pinches(self.path, self.rate)],
            "shake_before": _rounded(before * percent, 5),
            "shake_after": _rounded(after * percent, 5),
            "keyed": {
                "response_s": _rounded(keyed(self.motion.response_keys, self.motion.response_s, frames), 4),
                "strength": _rounded(keyed(self.motion.strength_keys, self.motion.strength, frames), 4),
            },
            "wanted_zoom": _rounded(self.path.wanted_zoom, 5),
            "zoom": _rounded(self.path.zoom, 5),
            "gap_area": _rounded(gap_areas(self.path.src_from_out, self.path.size), 5),
            "src_from_out": _rounded(self.path.matrices().reshape(len(self.path.zoom), 9), 8),
        }


def solve_clip(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> Solution:
    """Solve from the stored measurement. Raises NotPossible when there is none."""
    measurement = clip_measurement(session, files, clip, treatment)
    info = clip_info(clip)
    path = solve_path(measurement, treatment)
    output = output_frame(path, treatment.framing, info.coded, info.pixel_aspect)
    return Solution(path, info.rate, output, treatment.motion)


def clip_trade_off(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> list[TradePoint]:
    """Zoom against remaining shake, from the stored measurement. Raises NotPossible when there is none."""
    return trade_off(clip_measurement(session, files, clip, treatment), treatment)


def clip_smallest_zoom(
    session: Session, files: FileStore, clip: Clip, treatment: Treatment, shake_percent: float
) -> TradePoint:
    """The smallest zoom that leaves no more shake than wanted. Raises NotPossible when none does."""
    point = smallest_zoom(clip_measurement(session, files, clip, treatment), treatment, shake_percent)
    if point.shake_percent > shake_percent:
        raise NotPossible(
            f"{clip.name}: with these settings {point.shake_percent:.3f} % remains however much is zoomed. "
            "Lengthen the response time, or allow more kinds of correction."
        )
    return point


def _rounded(values: Any, digits: int) -> Any:
    return values.round(digits).tolist()
