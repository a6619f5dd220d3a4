"""Series of numbered pictures for tests."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import cv2
import numpy as np

ROWS, COLUMNS = 90, 160


def picture(number: int, kind: type, channels: int = 3) -> np.ndarray:
    """A picture of every colour, BGR or BGRA, that moves with its number."""
    random = np.random.default_rng(number)
    top = np.iinfo(kind).max
    return random.integers(0, top, (ROWS, COLUMNS, channels), kind, endpoint=True)


def packed(path: Path, names: dict[str, np.ndarray], **told: object) -> Path:
    """A ZIP file of pictures."""
    with zipfile.ZipFile(path, "w") as archive:
        for name, pixels in names.items():
            archive.writestr(name, cv2.imencode(Path(name).suffix, pixels)[1].tobytes())
        if told:
            archive.writestr("pictures.json", json.dumps(told))
    return path


def encoded_picture(number: int) -> bytes:
    """One of them as PNG."""
    return cv2.imencode(".png", picture(number, np.uint8))[1].tobytes()
