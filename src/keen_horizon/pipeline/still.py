"""One exact frame as a picture, for a viewer without WebGL and for comparisons."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.mapping.sampling import camera_map
from keen_horizon.core.media.frames import Frame, read_frame
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.proxy import jpeg, limited_range, picture_of, scaled_planes
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment import Treatment

STILL_WIDTH = 960


def still_jpeg(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    number: int,
    measurement: Measurement | None,
    treatment: Treatment | None,
) -> bytes:
    """Frame `number` as JPEG, at most 960 wide; treated when a measurement and a treatment are given."""
    frame = read_frame(source, number, times)
    if measurement is not None and treatment is not None:
        path = solve_path(measurement, treatment)
        if path.first <= number < path.first + len(path.zoom):
            output = output_frame(path, treatment.framing, info.coded, info.pixel_aspect)
            warper = Warper(camera_map(path), info.coded, output, "420", treatment.framing)
            frame = Frame(frame.number, frame.time, warper.warp(frame).planes, frame.bit_depth, frame.tags)
    size = info.display.fitted(STILL_WIDTH)
    return jpeg(picture_of(scaled_planes(frame, size), limited_range(frame.tags), size), 90)
