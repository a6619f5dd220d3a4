"""One module a kind of job, and the registry of them all.

Every kind can start again after a kill: half-made files have fixed names in the work folder and are written over, a
measurement goes on from its checkpoint, and what was stored already is not made again.
"""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import Engine

from keen_horizon.jobs.kinds.board import board
from keen_horizon.jobs.kinds.finding import SEARCHES, finding
from keen_horizon.jobs.kinds.ingest import ingest
from keen_horizon.jobs.kinds.render import render
from keen_horizon.jobs.progress import Progress
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Work

Job = Callable[[Engine, FileStore, Work, Progress], None]

KINDS: dict[str, Job] = {
    "ingest": ingest, "board": board, "render": render, **dict.fromkeys(SEARCHES, finding),
}  # fmt: skip
