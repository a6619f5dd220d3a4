"""Names of editors' files, as they can be kept, shown and sent."""

from __future__ import annotations

import re
from pathlib import PurePath

LONGEST = 255
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]+")
_SURROGATES = re.compile(r"[\ud800-\udfff]")


def kept_name(name: str) -> str:
    """The last part of a name without what breaks headers, tables and databases: control characters, half pairs.

    The ending stays, however long the name is.
    """
    last = PurePath(name.replace("\\", "/")).name
    shown = _SURROGATES.sub("\ufffd", _CONTROL.sub(" ", last)).strip()
    suffix = PurePath(shown).suffix
    if len(shown) > LONGEST and len(suffix) < LONGEST:
        shown = shown[: LONGEST - len(suffix)] + suffix
    return shown[:LONGEST] or "This file"


def storable(text: str) -> bool:
    """Whether a database can hold a text: neither NUL nor half of a surrogate pair."""
    return "\x00" not in text and not _SURROGATES.search(text)
