"""Pictures made of fields, against the whole pictures that the fields were taken from.

    .venv/bin/python benchmarks/interlaced.py PICTURE [PICTURE ...]

Each picture is filmed with 8 px RMS of new shake every field and with as much smooth sway, read in pairs of lines as
interlaced cameras do, and woven. Says how far the pictures made of the fields are from the whole ones (levels RMS, of
255), as made here and by FFmpeg's bwdif and w3fdif; and of the first film after Hold, how far corners move and how much
energy between fields is left, of what the whole pictures have, all files lossless.
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path += [str(HERE.parent / "tests"), str(HERE.parent / "tests" / "core")]

import av
import av.filter
import cv2
import numpy as np
from test_fields import KEEPING, TOP_FIRST, paired, still, woven
from truth import encoded

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.deinterlacing import whole_pictures
from keen_horizon.core.media.footage import Reading
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.stored import Stored, Tags

SIZE = Size(640, 480)
FIELDS, SHAKE_PX, SWAY_FIELDS, SEED = 50, 8.0, 4.0, 3
LARGEST = 50  # px of shake
INSIDE = slice(4, -4)  # of the fields: those with neighbours enough for every filter
FILTERS = {"bwdif": "mode=1:parity=0:deint=0", "w3fdif": "filter=complex:mode=1:parity=tff:deint=0"}
EDGE = 60  # px that are not compared


def shakes(smooth: bool) -> np.ndarray:
    """Where the camera stands at every field, (FIELDS, 2) px."""
    places = np.random.default_rng(SEED).normal(size=(FIELDS, 2))
    if smooth:
        places = cv2.GaussianBlur(places, (1, 0), sigmaX=0.1, sigmaY=SWAY_FIELDS, borderType=cv2.BORDER_REFLECT)
        places /= places.std()
    return (places * SHAKE_PX / np.sqrt(2)).clip(-LARGEST, LARGEST)


def film(path: Path, places: np.ndarray) -> tuple[list[np.ndarray], Similarities]:
    """Whole pictures of a photograph, and the camera's poses."""
    photograph = cv2.imread(str(path))
    scale = max((SIZE.width + 2 * EDGE) / photograph.shape[1], (SIZE.height + 2 * EDGE) / photograph.shape[0])
    kernel = cv2.INTER_AREA if scale < 1 else cv2.INTER_CUBIC
    photograph = cv2.resize(photograph, None, fx=scale, fy=scale, interpolation=kernel)
    corner = (np.array(photograph.shape[1::-1]) - (SIZE.width, SIZE.height)) / 2
    pictures = []
    for place in places + corner:
        laid = np.array([[1, 0, -place[0]], [0, 1, -place[1]]])
        pictures.append(paired(cv2.warpAffine(photograph, laid, (SIZE.width, SIZE.height), flags=cv2.INTER_CUBIC)))
    poses = Similarities(np.ones(FIELDS, np.complex128), (places + corner) @ np.array([1, 1j]))
    return pictures, poses


def made_here(frames: list[np.ndarray]) -> list[np.ndarray]:
    """Grey frames' fields as pictures."""
    stored = (Stored((frame,), 8, Fraction(i, 25), Tags(1, 1, 1, 1)) for i, frame in enumerate(frames))
    return [whole.planes[0] for whole in whole_pictures(stored, Reading(first_field="top", every_field=True))]


def filtered(frames: list[np.ndarray], name: str) -> list[np.ndarray]:
    """The same by one of FFmpeg's filters."""
    graph = av.filter.Graph()
    source = graph.add_buffer(
        width=SIZE.width, height=SIZE.height, format=av.VideoFormat("gray"), time_base=Fraction(1, 25)
    )
    kept, sink = graph.add(name, FILTERS[name]), graph.add("buffersink")
    source.link_to(kept)
    kept.link_to(sink)
    graph.configure()
    for number, frame in enumerate(frames):
        picture = av.VideoFrame.from_ndarray(frame, "gray")
        picture.pts, picture.time_base = number, Fraction(1, 25)
        graph.push(picture)
    graph.push(None)
    return list(_pulled(graph))


def _pulled(graph: av.filter.Graph) -> Iterator[np.ndarray]:
    while True:
        try:
            yield graph.pull().to_ndarray(format="gray")
        except (av.error.BlockingIOError, av.error.EOFError):
            return


def apart(made: list[np.ndarray], whole: list[np.ndarray]) -> float:
    """Levels RMS between pictures."""
    pairs = list(zip(made, whole, strict=True))[INSIDE]
    squares = [((a - b.astype(float))[EDGE:-EDGE, EDGE:-EDGE] ** 2).mean() for a, b in pairs]
    return float(np.sqrt(np.mean(squares)))


def after_hold(pictures: list[np.ndarray], poses: Similarities, folder: Path) -> tuple[float, float, float]:
    """How far corners move (px RMS), and the energy between lines, levels^2: made of fields, and of whole pictures."""
    ffmpeg = str(shutil.which("ffmpeg"))
    whole = encoded(ffmpeg, folder / "whole.mkv", pictures, FIELDS, *KEEPING)
    fields = encoded(ffmpeg, folder / "fields.mkv", woven(pictures, "top"), FIELDS / 2, *KEEPING, *TOP_FIRST)
    found = []
    for clip in (whole, fields):
        info, times = probe(clip)
        found.append(still(info, clip, times, poses, folder / "held.mkv"))
    return found[1][0], found[1][1], found[0][1]


def main() -> None:
    """Print a line a picture."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("pictures", nargs="+", type=Path)
    for path in parser.parse_args().pictures:
        line = [path.name]
        for name, smooth in (("shake", False), ("sway", True)):
            pictures, poses = film(path, shakes(smooth))
            grey = [cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY) for picture in pictures]
            frames = woven(grey, "top")
            ways = {"here": made_here(frames)} | {way: filtered(frames, way) for way in FILTERS}
            line.append(f"{name}: " + ", ".join(f"{way} {apart(made, grey):.2f}" for way, made in ways.items()))
            if not smooth:
                with tempfile.TemporaryDirectory() as folder:
                    moves, left, usual = after_hold(pictures, poses, Path(folder))
                line.append(f"held: {moves:.3f} px, energy {left:.2f} of {usual:.2f} ({left / usual:.3f})")
        print("; ".join(line), flush=True)


if __name__ == "__main__":
    main()
