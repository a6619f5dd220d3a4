"""Scripts, styles and fonts as pages load them: at an address that is new when one of them is, so browsers keep them.

A page needs some eighty files. Scripts import one another by relative places, so the release stands before all of them.
What `/static` serves is the same, asked for again each time: for whoever looks at one file by hand.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from flask import Blueprint, Flask, Response, current_app, send_from_directory, url_for

SHIPPED = "/shipped/"  # where they stand
KEPT_SECONDS = 365 * 24 * 3600  # the longest that HTTP's authors ask for (RFC 2616, 14.21)
FOLDER = Path(__file__).with_name("static")

blueprint = Blueprint("shipped", __name__)


def ship(app: Flask) -> None:
    """Serve what ships with the application, and give templates `shipped(name)`, its address."""
    release = app.config["RELEASE"] = _release(FOLDER)
    app.register_blueprint(blueprint)
    app.jinja_env.globals["shipped"] = lambda name: url_for("shipped.file", release=release, name=name)


@blueprint.get(f"{SHIPPED}<release>/<path:name>")
def file(release: str, name: str) -> Response:
    """A file, kept only under its own release; a page that stood open while the application was replaced goes on."""
    if release != current_app.config["RELEASE"]:
        return send_from_directory(FOLDER, name)
    answer = send_from_directory(FOLDER, name, max_age=KEPT_SECONDS)
    answer.cache_control.immutable = True
    return answer


def _release(folder: Path) -> str:
    """Sixteen digits that change with any file of a folder, its name or what it holds."""
    digest = hashlib.sha256()
    for path in sorted(path for path in folder.rglob("*") if path.is_file()):
        digest.update(str(path.relative_to(folder)).encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]
