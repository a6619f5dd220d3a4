"""The command line: the core and its pipeline for batch use, and the commands that run the application."""

from __future__ import annotations

import argparse
import os
import sys
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.console import bar, check_targets, read_json, tell, write_json
from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.core.lens.calibration import Board
from keen_horizon.core.lens.exchange.files import read_profile
from keen_horizon.core.lens.plate import plate_treatment
from keen_horizon.core.media.along import summary
from keen_horizon.core.media.decodable import probe_decodable
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.scanning import Asked
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.belief.told import motion_json
from keen_horizon.core.motion.measurement import Measurement, measurement_notes
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.any_path import notes_of, solve_any
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.path.sphere.figures import sphere_motion_json
from keen_horizon.core.render.compare import Comparison
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.former import with_present_names
from keen_horizon.editing import add_editing
from keen_horizon.jobs.apart import Apart
from keen_horizon.keeping import add_keeping
from keen_horizon.memory import keep_freed_memory
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.flat_field import falloff_of_field
from keen_horizon.pipeline.flat_things import flat_thing_csv, flat_thing_document, follow_clip
from keen_horizon.pipeline.glass import with_glass
from keen_horizon.pipeline.lenses import lens_by_board, lens_by_itself, lens_by_lines
from keen_horizon.pipeline.like_source import like_source
from keen_horizon.pipeline.maps import write_maps
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.overlaying import overlay_clip
from keen_horizon.pipeline.pinning import pin_clip
from keen_horizon.pipeline.rendering import Versus, as_shot, render_clip
from keen_horizon.pipeline.report import path_csv, path_document, report_of, transforms_csv

UNTREATED = Treatment()
INPUTS = ("source", "treatment", "measurement", "profile", "flat", "graphics")  # options that name files to read
USUAL_CODECS = {"mp4": "h264", "mov": "h264", "mkv": "h264", "webm": "vp9", "zip": "png"}


def main(arguments: list[str] | None = None) -> int:
    """Run a command; 0 done, 1 failed with one line on standard error, 2 wrong usage."""
    options = _parser().parse_args(arguments)
    os.environ.setdefault("SVT_LOG", "1")  # the AV1 encoder then speaks of errors alone
    keep_freed_memory()
    try:
        options.run(options)
    except KeenHorizonError as error:
        return _failed(str(error))
    except OSError as error:
        return _failed(f"{error.filename}: {error.strerror}." if error.filename else str(error))
    except MemoryError:
        return _failed("the pictures are too large for this machine's memory. Export them in a smaller size.")
    except KeyboardInterrupt:
        return _failed("stopped.")
    return 0


def _failed(reason: str) -> int:
    print(f"keen-horizon: {reason}", file=sys.stderr)
    return 1


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="keen-horizon", description="Steady footage, with the price shown.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    measure = commands.add_parser("measure", help="measure the camera motion of a clip")
    measure.add_argument("source", type=Path, metavar="SRC")
    measure.add_argument("--out", type=Path, required=True, help="measurement to write (.npz)")
    measure.add_argument("--json", type=Path, help="the same as open JSON")
    measure.add_argument("--treatment", type=Path, help="treatment document (JSON) that says what camera took the clip")
    measure.add_argument("--finer", action="store_true", help="three times the points, in larger pictures (frames)")
    measure.set_defaults(run=_measure)
    correct = commands.add_parser("correct", help="measure, solve and render a clip")
    correct.add_argument("source", type=Path, metavar="SRC")
    correct.add_argument("destination", type=Path, metavar="DST")
    correct.add_argument("--treatment", type=Path, help="treatment document (JSON)")
    correct.add_argument("--measurement", type=Path, help="use a stored measurement instead of measuring")
    correct.add_argument("--compare", choices=("side", "wipe"), help="render as shot and corrected in one picture")
    correct.add_argument("--report", type=Path, help="figures to write (JSON)")
    correct.add_argument("--path", type=Path, help="camera path to write (.json, .csv, or _2d.csv)")
    correct.set_defaults(run=_correct)
    lens = commands.add_parser(
        "lens", help="find a clip's lens and write the treatment with it: by its straightedges, a board, or by itself"
    )
    lens.add_argument("source", type=Path, metavar="SRC")
    lens.add_argument("destination", type=Path, metavar="TREATMENT", help="treatment document to write (JSON)")
    lens.add_argument("--treatment", type=Path, help="treatment document to begin with, with straightedges or without")
    lens.add_argument("--profile", type=Path, help="take the lens from this file: a profile, or a calibration")
    lens.add_argument("--measurement", type=Path, help="use a stored measurement instead of measuring the motion")
    lens.add_argument("--edges-only", action="store_true", help="by what is straight alone, without the motion")
    lens.add_argument("--board", choices=("chessboard", "dots"), help="the clip films this board")
    lens.add_argument("--across", type=int, default=9, help="the board's inner corners, or dots, across")
    lens.add_argument("--down", type=int, default=6, help="the same down")
    lens.set_defaults(run=_lens)
    glass = commands.add_parser("glass", help="measure fall-off and fringes, and write the treatment with them")
    glass.add_argument("source", type=Path, metavar="SRC")
    glass.add_argument("destination", type=Path, metavar="TREATMENT", help="treatment document to write (JSON)")
    glass.add_argument("--treatment", type=Path, help="treatment document to begin with")
    glass.add_argument("--measurement", type=Path, help="use a stored measurement instead of measuring the motion")
    glass.add_argument("--flat", type=Path, metavar="FIELD", help="a clip or picture of a plain wall or sky to go by")
    glass.set_defaults(run=_glass)
    plate = commands.add_parser("plate", help="render the straight plate of a clip: its lens alone, nothing lost")
    maps = commands.add_parser("maps", help="write a clip's ST maps, EXR and TIFF, in one ZIP file")
    overlay = commands.add_parser("overlay", help="bend straight-rendered graphics back over a clip's own pixels")
    for command, run in ((plate, _plate), (maps, _maps), (overlay, _overlay)):
        command.add_argument("source", type=Path, metavar="SRC")
        if command is overlay:
            command.add_argument(
                "graphics", type=Path, metavar="GRAPHICS", help="picture, folder or ZIP of them, video"
            )
        command.add_argument("destination", type=Path, metavar="DST")
        command.add_argument("--treatment", type=Path, required=True, help="treatment document (JSON) with a lens")
        if command is maps:
            command.add_argument("--frame", type=int, help="which frame's maps, where the lens is keyed (the first)")
        command.set_defaults(run=run)
    corners = commands.add_parser("corners", help="follow a flat thing's four corners, to .json or .csv")
    corners.add_argument("source", type=Path, metavar="SRC")
    corners.add_argument("destination", type=Path, metavar="DST")
    corners.add_argument("--treatment", type=Path, required=True, help="treatment document (JSON) with a flat thing")
    corners.set_defaults(run=_corners)
    for command in (measure, correct, lens, glass, plate, maps, overlay, corners):
        command.add_argument("--fields", choices=("as-found", "none", "top", "bottom"), default="as-found",
                             help="which field of interlaced film comes first; none: whole pictures")  # fmt: skip
        command.add_argument("--pictures", choices=("field", "frame"), help="one picture a field, or one a frame")
        command.add_argument("--rate", type=_rate, help="how many numbered pictures are shown a second")
    add_editing(commands)
    add_keeping(commands)
    for name, text in (
        ("serve", "run the web server"),
        ("worker", "run a worker for background jobs"),
        ("demo", "make the demo project"),
    ):
        commands.add_parser(name, help=text).set_defaults(run=_application(name))
    return parser


def _application(name: str) -> Any:
    def run(options: argparse.Namespace) -> None:
        from keen_horizon import launch  # the application's libraries are not needed for batch use

        getattr(launch, name)()

    return run


def _measure(options: argparse.Namespace) -> None:
    check_targets(options.out, options.json, made_of=_inputs(options))
    treatment = Treatment.from_json(read_json(options.treatment) if options.treatment else {})
    info, times = _probed(options, treatment)
    measurement = measure_clip(options.source, info, times, 0, info.frames - 1, bar("measuring"), finer=options.finer)
    measurement.save(options.out)
    tell(info, measurement_notes(measurement))
    if options.json:
        believed = believed_as(measurement, treatment.motion.belief)
        document = sphere_motion_json(believed) if believed.sphere else motion_json(believed, float(info.pixel_aspect))
        write_json(options.json, document)


def _correct(options: argparse.Namespace) -> None:
    check_targets(options.destination, options.report, options.path, made_of=_inputs(options))
    treatment = _treatment(options)
    info, times = _probed(options, treatment)
    treatment = like_source(treatment, info)
    began = time.perf_counter()
    measurement = _measurement(options, info, times, treatment)
    measured = time.perf_counter()
    pins = _pins(options.source, info, times, treatment, measurement)
    path = solve_any(measurement, treatment, pins)
    solved = time.perf_counter()
    notes = notes_of(measurement, treatment, path, pins)
    tell(info, (*notes, summary(clip_fates(info, treatment))))
    versus = _versus(options, measurement, treatment)
    facts = render_clip(
        options.source, info, times, path, treatment, options.destination, bar("rendering"), versus=versus
    )
    tell(info, facts.notes())
    if options.report:
        seconds = {"measure": measured - began, "solve": solved - measured, "render": facts.seconds}
        write_json(options.report, report_of(path, treatment, info, facts, seconds, notes, measurement))
    if options.path and options.path.suffix == ".csv":
        table = transforms_csv if options.path.stem.endswith("_2d") else path_csv
        options.path.write_text(table(path_document(path, info, times)))
    elif options.path:
        write_json(options.path, path_document(path, info, times))


def _lens(options: argparse.Namespace) -> None:
    check_targets(options.destination, made_of=_inputs(options, but=options.treatment))
    treatment = Treatment.from_json(read_json(options.treatment) if options.treatment else {})
    info, times = _probed(options)
    notes: tuple[str, ...] = ()
    if options.profile:
        name = options.profile.name
        with closing(Apart(members=1)) as apart:
            profile = apart.call(name, read_profile, options.profile.read_bytes(), name)
        treatment = profile.applied(treatment, info.name, info.display, info.rate)
    elif options.board:
        board = Board(options.board, options.across, options.down)
        treatment, notes = lens_by_board(options.source, info, times, treatment, board, bar("looking"))
    elif treatment.optics.straightedges:
        treatment, notes = lens_by_lines(info, treatment)
    else:
        measurement = None if options.edges_only else _measurement(options, info, times, treatment)
        treatment, notes = lens_by_itself(options.source, info, times, treatment, bar("looking"), measurement)
    tell(info, notes)
    write_json(options.destination, treatment.to_json())


def _glass(options: argparse.Namespace) -> None:
    check_targets(options.destination, made_of=_inputs(options, but=options.treatment))
    treatment = Treatment.from_json(read_json(options.treatment) if options.treatment else {})
    info, times = _probed(options)
    field = options.flat and (options.flat.name, falloff_of_field(options.flat, info.display))
    measurement = _measurement(options, info, times, treatment)
    treatment, notes, untold = with_glass(options.source, info, times, measurement, treatment, bar("looking"), field)
    tell(info, notes)
    for error in untold:
        print(error, file=sys.stderr)
    write_json(options.destination, treatment.to_json())


def _plate(options: argparse.Namespace) -> None:
    check_targets(options.destination, made_of=_inputs(options))
    info, times = _probed(options)
    treatment = like_source(plate_treatment(_treatment(options), info.name), info)
    first, last = treatment.frames(info.frames)
    path = solve_path(Measurement.still(info.display, first, times[first : last + 1]), treatment)
    facts = render_clip(options.source, info, times, path, treatment, options.destination, bar("rendering"))
    tell(info, facts.notes())


def _maps(options: argparse.Namespace) -> None:
    check_targets(options.destination, made_of=_inputs(options))
    info, _ = _probed(options)
    treatment = Treatment.from_json(read_json(options.treatment))
    write_maps(info, treatment, options.destination, bar("writing"), frame=options.frame)


def _overlay(options: argparse.Namespace) -> None:
    check_targets(options.destination, made_of=_inputs(options))
    info, times = _probed(options)
    treatment, graphics = like_source(_treatment(options), info), options.graphics
    facts = overlay_clip(
        options.source, info, times, treatment, graphics, graphics.name, options.destination, bar("rendering")
    )
    tell(info, facts.notes())


def _corners(options: argparse.Namespace) -> None:
    check_targets(options.destination, made_of=_inputs(options))
    info, times = _probed(options)
    treatment = Treatment.from_json(read_json(options.treatment))
    if treatment.optics.flat is None:
        raise KeenHorizonError(f"{options.treatment.name}: it sets no corners. Name some under optics.flat.")
    first, last = treatment.frames(info.frames)
    thing, optics = treatment.optics.flat, treatment.optics
    track = follow_clip(options.source, info, times, first, last, thing, optics, bar("following"))
    document = flat_thing_document(track, treatment, info, times)
    if options.destination.suffix == ".csv":
        options.destination.write_text(flat_thing_csv(document))
    else:
        write_json(options.destination, document)


def _inputs(options: argparse.Namespace, but: Path | None = None) -> list[Path]:
    """The files that a command reads, `but` one that it may write anew: a treatment is a document to go on with."""
    named = [getattr(options, name, None) for name in INPUTS]
    return [path for path in named if path is not None and path != but]


def _probed(options: argparse.Namespace, treatment: Treatment = UNTREATED) -> tuple[ClipInfo, NDArray[np.float64]]:
    """The clip's facts as far as it can be worked on, taken by the camera that its treatment says; what is missing is
    said.
    """
    every = None if options.pictures is None else options.pictures == "field"
    camera = treatment.source.camera or "as found"
    asked = Asked(fields=options.fields.replace("-", " "), every_field=every, rate=options.rate, camera=camera)
    info, times = probe_decodable(options.source, asked)
    if info.camera == "sphere" and options.run not in (_measure, _correct):
        raise KeenHorizonError(f"{info.name}: it shows all around, and this is for frames. Deliver a view of it first.")
    tell(info, info.notes)
    return info, times


def _rate(text: str) -> float:
    rate = float(text)
    if not 0.1 <= rate <= 1000:
        raise ValueError
    return rate


def _treatment(options: argparse.Namespace) -> Treatment:
    """The treatment asked for, delivered in the container that the destination's name says."""
    container = options.destination.suffix.lstrip(".").lower()
    if container not in USUAL_CODECS:
        raise KeenHorizonError(f"{options.destination.name}: end its name in one of {', '.join(USUAL_CODECS)}.")
    document = with_present_names(read_json(options.treatment)) if options.treatment else {}
    output = document.get("output", {}) if isinstance(document, dict) else {}
    if isinstance(output, dict):
        document["output"] = {"codec": USUAL_CODECS[container]} | output | {"container": container}
    return Treatment.from_json(document)


def _versus(options: argparse.Namespace, measurement: Measurement, treatment: Treatment) -> Versus | None:
    """As shot beside or before the result, where a comparison is asked for."""
    if not options.compare:
        return None
    plain = as_shot(treatment)
    return Versus(solve_any(measurement, plain), plain, Comparison(options.compare))


def _measurement(options: argparse.Namespace, info: ClipInfo, times: Any, treatment: Treatment) -> Measurement:
    first, last = treatment.frames(info.frames)
    if options.measurement:
        return Measurement.load(options.measurement).part(first, last).turned(info.turns)
    return measure_clip(options.source, info, times, first, last, bar("measuring"))


def _pins(
    source: Path, info: ClipInfo, times: Any, treatment: Treatment, measurement: Measurement
) -> tuple[PinTrack, ...]:
    if treatment.motion.intent != "pin":
        return ()
    first, last = treatment.frames(info.frames)
    points = treatment.motion.pin.points
    return tuple(
        pin_clip(source, info, times, first, last, point, bar("following"), motion=measurement) for point in points
    )


if __name__ == "__main__":
    sys.exit(main())
