"""What commands read, write and say."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.nesting import DEEPEST, levels


def read_json(path: Path) -> dict[str, Any]:
    """A JSON document. Raises KeenHorizonError naming the file."""
    try:
        text = path.read_text()
        if levels(text) > DEEPEST:
            raise KeenHorizonError(f"{path.name}: it is nested deeper than any document here. Is this the right file?")
        document: dict[str, Any] = json.loads(text)
    except ValueError as error:
        raise KeenHorizonError(f"{path.name}: this is not a JSON document ({error}).") from error
    return document


def write_json(path: Path, document: dict[str, Any]) -> None:
    """Write a document, to be read by people too."""
    path.write_text(json.dumps(document, indent=1) + "\n")


def check_targets(*files: Path | None, made_of: Sequence[Path]) -> None:
    """What is written has a folder and a name of its own, and is none of the files that it is `made_of`: better said
    now than after an hour of measuring. Raises KeenHorizonError.
    """
    written: set[Path] = set()
    for file in files:
        if file is None:
            continue
        if file.resolve() in written:
            raise KeenHorizonError(f"{file.name}: two results would be written into it. Choose another name for one.")
        written.add(file.resolve())
        if not file.resolve().parent.is_dir():
            raise KeenHorizonError(f"{file.name}: there is no folder {file.resolve().parent}. Make it first.")
        if any(file.exists() and source.exists() and file.samefile(source) for source in made_of):
            raise KeenHorizonError(f"{file.name}: this would overwrite what it is made of. Choose another name.")


def tell(info: ClipInfo, notes: tuple[str, ...]) -> None:
    """Say what there is to say of a clip, on standard error."""
    for note in notes:
        print(f"{info.name}: {note}", file=sys.stderr)


def bar(title: str) -> Any:
    """Progress on standard error: a bar on a terminal, nothing elsewhere."""
    if not sys.stderr.isatty():
        return lambda done, total: None
    began = time.perf_counter()

    def show(done: int, total: int) -> None:
        rate = done / max(1e-6, time.perf_counter() - began)
        filled = 30 * done // max(1, total)
        end = "\n" if done >= total else ""
        print(
            f"\r{title} [{'=' * filled:30}] {done}/{total} {rate:.0f} fps",
            end=end,
            file=sys.stderr,
            flush=True,
        )

    return show
