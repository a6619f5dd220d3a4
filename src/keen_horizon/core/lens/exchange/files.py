"""Which form a lens file has, and a profile in any of them."""

from __future__ import annotations

import json
import re
from pathlib import PurePath
from typing import Any

import cv2

from keen_horizon.core.errors import ProfileError
from keen_horizon.core.lens.exchange.opencv import read_opencv, write_opencv
from keen_horizon.core.lens.exchange.openlensio import read_openlensio, write_openlensio
from keen_horizon.core.lens.profile import Profile
from keen_horizon.core.nesting import DEEPEST, levels

LARGEST = 1 << 20
_STEPS = re.compile(r"(?P<down>[\[{]|<[A-Za-z_])|(?P<up>[\]}]|</|/>)")
FORMS = {
    "profile.json": "this project's form",
    "opencv.yml": "OpenCV, YAML",
    "opencv.xml": "OpenCV, XML",
    "opencv.json": "OpenCV, JSON",
    "openlensio.json": "OpenLensIO",
}


def read_profile(data: bytes, name: str) -> Profile:
    """A profile from a file's bytes; `name` is the file's. Raises ProfileError."""
    if len(data) > LARGEST:
        raise ProfileError(f"{name}: a lens profile is never larger than 1 MB. Is this the right file?")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise ProfileError(f"{name}: this is not a text file, so it is no lens profile.") from error
    if not text.strip():
        raise ProfileError(f"{name}: the file is empty.")
    if levels(text, _STEPS) > DEEPEST:
        raise ProfileError(f"{name}: it is nested deeper than a lens file ever is. Is this the right file?")
    try:
        return _read(text, PurePath(name).stem[:80] or "lens")
    except (cv2.error, SystemError, ArithmeticError, LookupError, TypeError, ValueError) as error:
        raise ProfileError(
            f"{name}: this cannot be read as a lens. Its figures or its structure are damaged."
        ) from error


def _read(text: str, stem: str) -> Profile:
    document = _json(text)
    if isinstance(document, dict) and "schema" in document:
        return Profile.from_json(document)
    if isinstance(document, dict) and "static" in document:
        return read_openlensio(document, stem)
    return read_opencv(text, stem)


def left_out(profile: Profile, form: str) -> tuple[str, ...]:
    """What a profile says and one of FORMS has no place for."""
    if form == "profile.json":
        return ()
    missing = ["the readout"] if profile.readout_s is not None else []
    falloff = profile.falloff
    if falloff is not None and form != "openlensio.json":
        missing.append("how light falls off")
    elif falloff is not None and (falloff.centre_x, falloff.centre_y) != (profile.lens.centre_x, profile.lens.centre_y):
        missing.append("the middle of its light")
    if falloff is not None and falloff.dead_radius is not None:
        missing.append("where no light arrives")
    if profile.fringe is not None:
        missing.append("how its colours lie apart")
    return tuple(missing)


def write_profile(profile: Profile, form: str) -> str:
    """A profile as text in one of FORMS. Raises ProfileError where the form cannot tell the lens."""
    if form == "profile.json":
        return json.dumps(profile.to_json(), indent=1)
    if form == "openlensio.json":
        return json.dumps(write_openlensio(profile), indent=1)
    return write_opencv(profile, form.rpartition(".")[2])


def _json(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        return None
