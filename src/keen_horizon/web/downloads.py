"""Files that a browser saves: their names may hold any character."""

from __future__ import annotations

import io
import json
from typing import Any

from flask import send_file
from werkzeug.wrappers import Response

from keen_horizon.operations.names import kept_name
from keen_horizon.pipeline.flat_things import flat_thing_csv
from keen_horizon.pipeline.report import path_csv, transforms_csv

TABLES = {"path.csv": path_csv, "transforms.csv": transforms_csv, "corners.csv": flat_thing_csv}


def attached(text: str, kind: str, name: str) -> Response:
    """A text that the browser saves under a name (RFC 6266: beside ASCII also as UTF-8)."""
    return send_file(io.BytesIO(text.encode()), mimetype=kind, as_attachment=True, download_name=kept_name(name))


def data_file(document: dict[str, Any], stem: str, name: str) -> Response:
    """A path's or a flat thing's document: as the table that `name` asks for, or as JSON."""
    if name in TABLES:
        return attached(TABLES[name](document), "text/csv", f"{stem}_{name}")
    return attached(json.dumps(document), "application/json", f"{stem}_{name}")
