"""What the application makes of a clip's pictures, made once for tests that each begin with empty tables."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path

import pytest

from keen_horizon.core.media.footage import Reading
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.proxy import ProxyFacts, make_proxy
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.pipeline.measuring import Progress, measure_clip
from keen_horizon.store.files import digest_of

COPIES: dict[tuple[str, Reading, str], tuple[ProxyFacts, bytes, bytes]] = {}
MEASURED: dict[tuple[str, Reading, str, int, int, bool], Measurement] = {}


def prepare_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Light copies and measurements that another test of this process had made are given again."""
    monkeypatch.setattr(import_module("keen_horizon.jobs.kinds.ingest"), "make_proxy", _copied)
    monkeypatch.setattr(import_module("keen_horizon.jobs.kinds.finding"), "measure_clip", _measured)


def _copied(source: Path, info: ClipInfo, times: object, proxy: Path, thumbnails: Path, *told: object) -> ProxyFacts:
    key = digest_of(source), info.reading, info.camera
    if key not in COPIES:
        facts = make_proxy(source, info, times, proxy, thumbnails, *told)
        COPIES[key] = facts, proxy.read_bytes(), thumbnails.read_bytes()
    facts, pictures, strip = COPIES[key]
    proxy.write_bytes(pictures)
    thumbnails.write_bytes(strip)
    return facts


def _measured(
    source: Path, info: ClipInfo, times: object, first: int, last: int, progress: Progress, *how: object, finer: bool
) -> Measurement:
    key = digest_of(source), info.reading, info.camera, first, last, finer
    if key not in MEASURED:
        MEASURED[key] = measure_clip(source, info, times, first, last, progress, *how, finer=finer)
    progress(last - first + 1, last - first + 1)
    return MEASURED[key]
