"""The command line's work on spheres, once they are measured."""

from __future__ import annotations

import argparse
import time
from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.console import bar, tell, write_json
from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.sphere.figures import sphere_ledger, sphere_notes
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.rendering import RenderFacts, render_clip


def correct_sphere(
    options: argparse.Namespace,
    info: ClipInfo,
    times: NDArray[np.float64],
    measurement: Measurement,
    treatment: Treatment,
    measuring_s: float,
) -> None:
    """Solve and render a measured sphere as the command line asks. Raises KeenHorizonError for what it cannot have."""
    if options.compare or options.path:
        raise KeenHorizonError(
            f"{info.name}: a sphere has neither a comparison nor a camera path file. Leave them out."
        )
    began = time.perf_counter()
    path = solve_sphere(measurement, treatment)
    solved = time.perf_counter()
    notes = sphere_notes(measurement, treatment, path)
    tell(info, notes)
    facts = render_clip(options.source, info, times, path, treatment, options.destination, bar("rendering"))
    if options.report:
        seconds = {"measure": measuring_s, "solve": solved - began, "render": facts.seconds}
        fates = [asdict(fate) for fate in clip_fates(info, treatment)]
        write_json(
            options.report, _report(info, facts, sphere_ledger(path).to_json(), seconds, notes) | {"goes_along": fates}
        )


def _report(
    info: ClipInfo, facts: RenderFacts, figures: dict[str, Any], seconds: dict[str, float], notes: tuple[str, ...]
) -> dict[str, Any]:
    """The `R.json` document of a sphere."""
    output = {"width": facts.width, "height": facts.height, "codec": facts.codec, "pix_fmt": facts.pix_fmt}
    return {
        "clip": info.name,
        "frames": facts.frames,
        **figures,
        "gap_pixels": facts.gap_pixels,
        "seconds": {name: round(value, 3) for name, value in seconds.items()},
        "output": output,
        "notes": list(notes),
    }
