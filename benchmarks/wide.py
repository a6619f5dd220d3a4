"""Shake behind the demo's very wide lens: what is left at the corners, bent and straightened, against the truth.

.venv/bin/python benchmarks/wide.py var/demo/dinghy_03.mp4
"""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from glass import corner_wobble

from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.over_time import optics_stage
from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.turns import camera_turns
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.measuring import measure_clip


def main(clip: Path) -> None:
    """Measure the clip, solve it and print what is left."""
    truth = json.loads(clip.with_suffix(".truth.json").read_text())
    turns = Rotation.from_quat([frame["world_from_camera_xyzw"] for frame in truth["frames"]])
    info, times = probe(clip)
    last = info.frames - 1
    square = (info.display.half_diagonal / truth["lens"]["focal_px"]) ** 2
    lens = Lens(truth["lens"]["model"], (square,))
    straight = {"lens": {"family": lens.family, "coefficients": [square]}}
    measured = measure_clip(clip, info, times, 0, last)
    started = time.perf_counter()
    found = camera_turns(
        measured, optics_stage(Treatment.from_json({"optics": straight}).optics, info.display, 0, last)
    )
    off = np.degrees(((turns[0].inv() * turns).inv() * found.rotations).magnitude())
    seconds = time.perf_counter() - started
    print(f"turns: {np.sqrt((off**2).mean()):.4f} degrees RMS off, {off.max():.4f} at most, in {seconds:.2f} s")
    bent = {"lens": {"family": "division", "coefficients": [0.0]}}
    motion = {"freedom": ["shift", "turn", "size", "tilt"]}
    for intent in ("hold", "glide"):
        for name, optics in (("bent", bent), ("straight", straight)):
            wanted = Treatment.from_json(
                {"optics": optics, "motion": motion | {"intent": intent}, "edges": {"way": "leave"}}
            )
            path = solve_path(measured, wanted)
            left = corner_wobble(path, optics_stage(wanted.optics, info.display, 0, last), lens, turns)
            print(f"{intent}, {name}: {left:.3f} px RMS left at the corners")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
