"""Where subsampled chroma samples lie among the luma samples (ITU-T H.273, 8.7, Chroma420SampleLocType).

Sites are numbered as FFmpeg numbers them: 0 is "not told", 1 ... 6 are the standard's 0 ... 5.
"""

from __future__ import annotations

import re
import threading
from dataclasses import dataclass
from typing import Any

import av.logging

NAMES = ("", "left", "center", "topleft", "top", "bottomleft", "bottom")
LEFT, CENTER, TOPLEFT, TOP = 1, 2, 3, 4
ANY_SITE = tuple(range(len(NAMES)))

# The first chroma sample's place (x, y), in luma samples from the first luma sample, where both ways are halved.
# 7 ... 9 have no name in the standard: pictures that are stored turned have them once they are upright.
_PLACES = {
    1: (0.0, 0.5), 2: (0.5, 0.5), 3: (0.0, 0.0), 4: (0.5, 0.0), 5: (0.0, 1.0), 6: (0.5, 1.0),
    7: (1.0, 0.5), 8: (1.0, 0.0), 9: (1.0, 1.0),
}  # fmt: skip
_SITES = {place: site for site, place in _PLACES.items()}
_TOLD = re.compile(r"Video: [^\n]*?\b(?:yuv|nv|p0)\w*\(([^)\n]*)\)")
_LEVEL = threading.Lock()


def chroma_place(site: int, across: int, down: int) -> tuple[float, float]:
    """Where the first chroma sample lies, (x, y) in luma samples from the first luma sample.

    `across` and `down` are luma samples to a chroma sample. Unless told otherwise it stands beside the first luma
    sample across and between two rows down, as MPEG-2 and all of its successors have it.
    """
    x, y = _PLACES.get(site, _PLACES[LEFT])
    return x * (across - 1), y * (down - 1)


def steps_between(luma: tuple[int, ...], chroma: tuple[int, ...]) -> tuple[int, int]:
    """Luma samples to a chroma sample, across and down, of planes of these shapes (rows, columns)."""
    return round(luma[1] / chroma[1]), round(luma[0] / chroma[0])


def turned_site(site: int, turns: int) -> int:
    """The site in a picture that was turned anticlockwise by quarter `turns`."""
    if turns == 0:
        return site
    x, y = _PLACES.get(site, _PLACES[LEFT])
    for _ in range(turns):
        x, y = y, 1 - x
    return _SITES[x, y]


@dataclass(frozen=True)
class WrittenChroma:
    """How chroma is written: its `layout` ("420", "422" or "444"), and the `sites` that the file has words for."""

    layout: str
    sites: tuple[int, ...] = ANY_SITE

    @property
    def steps(self) -> tuple[int, int]:
        """Luma samples to a sample of chroma, across and down."""
        return {"420": (2, 2), "422": (2, 1), "444": (1, 1)}[self.layout]

    def site(self, site: int) -> int:
        """The site that pictures of `site` are written with: their own where the file can tell it.

        Of chroma that is halved across only no file can, and everybody reads it beside luma's.
        """
        return site if site in self.sites and self.layout != "422" else LEFT

    def keeps(self, site: int) -> bool:
        """Whether chroma samples of `site` stay where they are."""
        return chroma_place(site, *self.steps) == chroma_place(self.site(site), *self.steps)


def site_told(container: Any, pixel_format: str, full_range: bool) -> int:
    """The site that an open file's first video stream tells; JPEG's full-range pictures have it in the middle.

    PyAV has no name for it; FFmpeg's own description of the file does.
    """
    with _LEVEL:
        before = av.logging.get_level()
        av.logging.set_libav_level(av.logging.VERBOSE)
        av.logging.set_level(av.logging.VERBOSE)
        try:
            told = _TOLD.search(container.dumps_format())
        finally:
            av.logging.set_libav_level(av.logging.INFO)  # FFmpeg's own default
            av.logging.set_level(before)
    words = [word.strip() for word in told[1].split(",")] if told else []
    for word in words:
        if word in NAMES[1:]:
            return NAMES.index(word)
    return CENTER if pixel_format.startswith("yuvj") and full_range else 0
