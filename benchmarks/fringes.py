"""Fringes measured on films of photographs, panned by a hand behind known glass, compressed more and less.

    .venv/bin/python benchmarks/fringes.py PICTURE PICTURE [...]

Pictures are laid side by side, two to a film, so that edges are as sharp as pictures are. Says how far red and blue are
off at the worst corner (px of 1080p), how far they said that they may be, whether the clip was sure, and how long it
took, of measuring the motion.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.core.media.encode import EncodeSettings, write_video
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.stored import Tags
from keen_horizon.pipeline.glass import measure_glass
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.simulator.light import fringed

sys.path.append(str(Path(__file__).resolve().parents[1] / "tests"))
from stored import stored

SIZE, FRAMES, ROOM = Size(1920, 1080), 72, Size(2900, 1700)
TALL = 400  # px of a strip of pictures
ENLARGED = 1.5
TAGS = Tags(1, 1, 1, 1, 1)
GLASS = {
    "two": Fringe((0.0017, 0.0), (-0.0016, 0.0)),
    "off-centre": Fringe((0.0006, 0.0009), (-0.0012, 0.0004), 0.03 - 0.02j),
    "none": Fringe(),
}
WAYS = (("420", 18, 15, 0.1), ("420", 26, 250, 0.2), ("444", 10, 15, 0.1))  # chroma, crf, key frames, how far it pans


def mosaic(photographs: list[np.ndarray], seed: int) -> np.ndarray:
    """A large picture of parts of photographs, some turned round."""
    random = np.random.default_rng(seed)
    out = np.zeros((ROOM.height, ROOM.width, 3), np.uint8)
    for top in range(0, ROOM.height, TALL):
        left = 0
        while left < ROOM.width:
            picture = photographs[random.integers(len(photographs))][:, :: random.choice([-1, 1])]
            start = random.integers(0, max(1, picture.shape[0] - TALL))
            part = picture[start : start + TALL][: ROOM.height - top, : ROOM.width - left]
            out[top : top + part.shape[0], left : left + part.shape[1]] = part
            left += part.shape[1]
    return out


def film(picture: np.ndarray, seed: int, pan: float) -> Iterator[np.ndarray]:
    """A picture, panned across by a hand."""
    random = np.random.default_rng(seed)
    grain = random.normal(0, 1.2, (SIZE.height, SIZE.width, 3))
    room = np.array([ROOM.width - SIZE.width, ROOM.height - SIZE.height])
    way = np.linspace(-1, 1, FRAMES)
    shake = 25 * cv2.GaussianBlur(random.normal(size=(FRAMES, 2)), (1, 0), sigmaX=0.1, sigmaY=3)
    for number, place in enumerate(room / 2 + shake + pan * room * np.stack([way, np.sin(2 * way)], -1)):
        moved = np.array([[1, 0, -place[0]], [0, 1, -place[1]]])
        seen = cv2.warpAffine(picture, moved, (SIZE.width, SIZE.height), borderMode=cv2.BORDER_REFLECT)
        yield np.clip(seen + np.roll(grain, number * 7, 1), 0, 255).astype(np.uint8)


def write(pictures: Iterator[np.ndarray], clip: Path, chroma: str, quality: int, every: int) -> None:
    """A file of BGR pictures, a key frame `every` so many."""
    settings = EncodeSettings(
        SIZE, 8, chroma, Fraction(30), Fraction(1, 15360), quality=quality, keyframe_interval=every, tags=TAGS
    )  # fmt: skip
    with write_video(clip, settings) as writer:
        for number, picture in enumerate(pictures):
            planes = cv2.cvtColor(picture, cv2.COLOR_BGR2RGB).astype(np.float32) / 255
            writer.write(stored(planes, 8, TAGS, chroma), Fraction(number, 30))


def off(one: Fringe, other: Fringe) -> list[float]:
    """How far red and blue of two lie apart at the worst corner, px of 1080p."""
    x, y = SIZE.width / 2 / SIZE.half_diagonal, SIZE.height / 2 / SIZE.half_diagonal
    corners = np.array([-x - 1j * y, x - 1j * y, x + 1j * y, -x + 1j * y])
    pairs = zip(one.colours, other.colours, strict=True)
    return [SIZE.half_diagonal * float(np.abs(one.seen(a, corners) - other.seen(b, corners)).max()) for a, b in pairs]


def main() -> None:
    """Print a line a film."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("pictures", nargs="+", type=Path)
    paths = parser.parse_args().pictures
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(len(paths) // 2):
            pair = paths[2 * seed : 2 * seed + 2]
            photographs = [cv2.resize(cv2.imread(str(path)), None, fx=ENLARGED, fy=ENLARGED) for path in pair]
            picture = mosaic(photographs, seed)
            ways = WAYS[seed % 3 :] + WAYS[: seed % 3]
            for (name, glass), (chroma, quality, every, pan) in zip(GLASS.items(), ways, strict=True):
                clip = Path(folder) / "clip.mp4"
                write(fringed(film(picture, seed, pan), SIZE, glass), clip, chroma, quality, every)
                info, times = probe(clip)
                began = time.perf_counter()
                measurement = measure_clip(clip, info, times, 0, info.frames - 1)
                between = time.perf_counter()
                told = measure_glass(clip, info, times, measurement)[1]
                share = (time.perf_counter() - between) / (between - began)
                (red, blue), doubts = off(told.fringe, glass), [SIZE.half_diagonal * doubt for doubt in told.doubts]
                print(
                    f"{' + '.join(path.stem for path in pair)}, {name}, {chroma}, crf {quality}: off by "
                    f"{red:.2f}, {blue:.2f} px; said {doubts[0]:.2f}, {doubts[1]:.2f}, "
                    f"{'sure' if told.enough else 'not sure'}; {share:.2f} x measuring",
                    flush=True,
                )


if __name__ == "__main__":
    main()
