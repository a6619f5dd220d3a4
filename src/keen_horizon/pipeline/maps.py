"""A clip's ST maps in one ZIP file: straighten and bend, as EXR and TIFF, and what they are in JSON."""

from __future__ import annotations

import json
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path

from keen_horizon.core.errors import Stopped
from keen_horizon.core.lens.plate import plates_of
from keen_horizon.core.lens.stmaps import bend_map, straighten_map, write_exr, write_tiff
from keen_horizon.core.media.encode import whole_or_nothing
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.treatment.document import Treatment

STEPS = 4


def write_maps(
    info: ClipInfo,
    treatment: Treatment,
    destination: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    frame: int | None = None,
) -> dict[str, float]:
    """Write the maps of a treatment's lens, and return what they are.

    Of a lens that is keyed they are of one `frame`, or the range's nearest to it, the first unless told. Raises
    LensError, RangeError, EncodeError, Stopped.
    """
    first, last = treatment.frames(info.frames)
    if frame is not None:
        info.check_frame(frame)
    shown = first if frame is None else min(max(frame, first), last)
    plate = plates_of(treatment, info.display, info.name, (first, last)).at(shown)
    source = plate.stage.size
    facts = {
        "source_width": source.width,
        "source_height": source.height,
        "plate_width": plate.size.width,
        "plate_height": plate.size.height,
        "overscan_across": round(plate.size.width / source.width, 6),
        "overscan_down": round(plate.size.height / source.height, 6),
        "frame": shown,
    }
    partial = destination.with_name(destination.name + ".part")
    with (
        whole_or_nothing(destination, partial),
        tempfile.TemporaryDirectory(dir=destination.parent) as folder,
        zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as archive,
    ):
        for step, (name, make) in enumerate((("straighten", straighten_map), ("bend", bend_map))):
            values = make(plate)
            for half, (suffix, write) in enumerate(((".exr", write_exr), (".tif", write_tiff))):
                if should_stop():
                    raise Stopped(f"{info.name}: making the maps was stopped.")
                file = Path(folder) / f"{name}{suffix}"
                write(values, file)
                archive.write(file, file.name)
                file.unlink()
                progress(2 * step + half + 1, STEPS)
        archive.writestr("maps.json", json.dumps(facts, indent=1))
    return facts
