"""Commands on several files: joining a take's, and correcting what an edit uses of its files."""

from __future__ import annotations

import argparse
import sys
from contextlib import closing
from pathlib import Path
from typing import Any

from keen_horizon.console import check_targets, read_json, tell
from keen_horizon.core.errors import EditError, KeenHorizonError, NotVideoError, UnreadableVideoError
from keen_horizon.core.exchange.edits import Replacement, Use, edit_text, read_edit, with_files
from keen_horizon.core.exchange.relinking import Link, Media, Miss, covering, relinked, replacement
from keen_horizon.core.media.containers import SUFFIXES
from keen_horizon.core.media.decodable import probe_decodable
from keen_horizon.core.media.joining import in_order, joined, left_behind
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.any_path import solve_any
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.jobs.apart import Apart
from keen_horizon.pipeline.like_source import like_source
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.rendering import render_clip

AS_SOURCE = {"output": {"codec": "source", "container": "source"}}
HANDLES = 12  # frames, where nothing else is asked for


def add_editing(commands: Any) -> None:
    """Add the commands to the command line's."""
    join = commands.add_parser("join", help="make one file of a take's several, nothing encoded anew")
    join.add_argument("sources", type=Path, nargs="+", metavar="SRC")
    join.add_argument("--out", type=Path, required=True, help="the joined file")
    join.set_defaults(run=_join)
    edit = commands.add_parser("edit", help="correct what an edit (OpenTimelineIO) uses, and write it with those files")
    edit.add_argument("source", type=Path, metavar="EDIT", help="the edit (.otio)")
    edit.add_argument("destination", type=Path, metavar="DST", help="the same edit with the corrected files (.otio)")
    edit.add_argument("--media", type=Path, required=True, help="folder that holds the edit's files")
    edit.add_argument("--into", type=Path, required=True, help="folder for the corrected files")
    edit.add_argument("--treatment", type=Path, help="treatment document (JSON) for all of them; else like the source")
    edit.add_argument("--handles", type=int, default=HANDLES, help=f"frames more on either side ({HANDLES})")
    edit.set_defaults(run=_edit)


def _join(options: argparse.Namespace) -> None:
    check_targets(options.out, made_of=options.sources)
    parts = in_order([(path, probe_decodable(path)[0]) for path in options.sources])
    joined(parts, options.out)
    infos = [info for _, info in parts]
    _tell(f"{options.out.name}: {len(parts)} files, {sum(info.frames for info in infos)} frames.")
    if left := left_behind(infos):
        _tell(f"{options.out.name}: not kept: {', '.join(left)}.")


def _edit(options: argparse.Namespace) -> None:
    inputs = [options.source, *([options.treatment] if options.treatment else [])]
    check_targets(options.destination, made_of=inputs)
    name, text = options.source.name, edit_text(options.source.read_bytes(), options.source.name)
    with closing(Apart(members=1)) as apart:
        uses = apart.call(name, read_edit, text, name)
        replacements = _corrected_files(options, uses)
        edit = apart.call(name, with_files, text, name, replacements)
    options.destination.write_text(edit)


def _corrected_files(options: argparse.Namespace, uses: tuple[Use, ...]) -> dict[int, Replacement]:
    """Write what an edit uses corrected; what stands in for the files of its clips, by number."""
    document = AS_SOURCE | (read_json(options.treatment) if options.treatment else {})
    treatment = Treatment.from_json(document)
    if treatment.motion.intent == "pin":
        raise EditError("A pinned point stays a clip's own. Choose another intent for a whole edit.")
    media = _media(options.media, options.into)
    links, misses = relinked(uses, media, max(0, options.handles))
    for miss in misses:
        _tell(f"{miss.use.name}: {miss.why}; it stays as it is.")
    if not links:
        raise EditError(f"{options.source.name}: none of its files was found in {options.media}.")
    options.into.mkdir(parents=True, exist_ok=True)
    made = {
        path: (_corrected(path, media[path], treatment, frames, options.into).resolve().as_uri(), frames)
        for path, frames in covering(links).items()
    }
    _tell(summary_of(links, misses))
    return {link.use.number: replacement(link, media[link.key], *made[link.key]) for link in links}


def summary_of(links: tuple[Link[Path], ...], misses: tuple[Miss, ...]) -> str:
    """How much of an edit was corrected."""
    files = len({link.key for link in links})
    left = f"; {len(misses)} left as they were" if misses else ""
    return f"{len(links)} clips use {files} corrected files{left}."


def _media(folder: Path, results: Path) -> dict[Path, Media]:
    """The folder's files that can be worked on, but for those in a folder of `results` below it."""
    found: dict[Path, Media] = {}
    results_below = folder.resolve() in results.resolve().parents
    for path in sorted(folder.rglob("*")):
        made_before = results_below and results.resolve() in path.resolve().parents
        if path.suffix.lower() in SUFFIXES and path.is_file() and not made_before:
            try:
                found[path] = Media(*probe_decodable(path))
            except (NotVideoError, UnreadableVideoError) as error:
                _tell(str(error))
    if not found:
        raise KeenHorizonError(f"{folder}: there is no film in this folder.")
    return found


def _corrected(path: Path, media: Media, treatment: Treatment, frames: tuple[int, int], into: Path) -> Path:
    """Write the frames `frames` of a file corrected; where."""
    (first, last), info, times = frames, media.info, media.times
    part = Treatment.from_json(treatment.to_json() | {"range": {"in": first, "out": last}})
    part = like_source(part, info)
    target = _free(into, path.stem, part.output.container)
    if part.motion.as_shot:
        measurement = Measurement.still(info.display, first, times[first : last + 1])
    else:
        measurement = measure_clip(path, info, times, first, last)
    facts = render_clip(path, info, times, solve_any(measurement, part), part, target)
    tell(info, facts.notes())
    return target


def _free(folder: Path, stem: str, suffix: str) -> Path:
    """A name that no file of the folder has."""
    number = 1
    while (target := folder / f"{stem}_corrected{'' if number == 1 else f'_{number}'}.{suffix}").exists():
        number += 1
    return target


def _tell(text: str) -> None:
    print(text, file=sys.stderr)
