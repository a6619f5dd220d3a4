"""A clip through a lens, from the file to the straight file: what was ruled straight is straight again."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from glass import RULED_EVERY, ruled_line, ruled_picture

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens, fisheye_of
from keen_horizon.core.lens.stage import lens_stage
from keen_horizon.core.lens.straightedges import fit_lens
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import probe
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.rendering import render_clip
from keen_horizon.simulator.film import write_pictures

SIZE = Size(960, 540)


def bows(luma: np.ndarray, spacing: float) -> np.ndarray:
    """How far each level line that is seen from side to side leaves its own straight line, px."""
    columns = np.arange(40, luma.shape[1] - 40, 8)
    middle = (luma.shape[0] - 1) / 2
    found = []
    for number in range(-3, 4):
        rows = np.arange(round(middle + number * spacing) - 9, round(middle + number * spacing) + 10)
        if rows[0] < 0 or rows[-1] >= luma.shape[0]:
            continue
        dark = np.clip(190 - luma[rows][:, columns].astype(float), 0, None)
        clear = np.abs((columns - (luma.shape[1] - 1) / 2) / spacing % 1 - 0.5) < 0.3  # no upright line near by
        places = (dark * rows[:, None]).sum(0)[clear] / dark.sum(0)[clear]
        found.append(np.abs(places - np.polyval(np.polyfit(columns[clear], places, 1), columns[clear])).max())
    return np.array(found)


@pytest.mark.parametrize(
    "lens", [fisheye_of("equidistant", 110), Lens("division", (-0.2, 0.02))], ids=["fisheye", "barrel"]
)
def test_lines_are_straight_in_the_rendered_file(lens: Lens, tmp_path: Path) -> None:
    clip = tmp_path / "ruled.mp4"
    write_pictures((ruled_picture(lens, SIZE) for _ in range(4)), SIZE, 30, clip, quality=8)
    info, times = probe(clip)
    fit = fit_lens([ruled_line(lens, SIZE, n) for n in (-3, -2, 2, 3)], SIZE)
    optics = {"lens": {"family": fit.lens.family, "coefficients": list(fit.lens.k)}}
    treatment = Treatment.from_json({"optics": optics, "motion": {"intent": None}})
    path = solve_path(Measurement.still(SIZE, 0, times), treatment)
    facts = render_clip(clip, info, times, path, treatment, tmp_path / "straight.mp4")
    assert facts.gap_pixels == 0
    step = lens_stage(replace(fit.lens, centre=0j), SIZE, 0.0).step
    straight = next(read_frames(tmp_path / "straight.mp4")).luma
    left, bent = bows(straight, RULED_EVERY / step), max(fit.bends)
    print(f"level lines: bent by {bent:.2f} px RMS as shot, {left.max():.2f} px at most straightened")
    assert len(left) >= 5
    assert bent > 3
    assert left.max() < 0.5
