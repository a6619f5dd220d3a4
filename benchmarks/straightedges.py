"""Lenses by straightedges drawn with 0.7 px of noise: how straight other lines become, and how long it takes.

    .venv/bin/python benchmarks/straightedges.py [DRAWS OF 200]

Every lens of `random_lens`, four to six lines; as they are, and with lines added where the software asks for them, six
at most. Errors are RMS over twenty lines that are straight in the world, px at 1080p.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from glass import FULL_HD, drawn_where_asked, random_lens, straight_things

from keen_horizon.core.lens.doubt import doubt
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.straightedges import fit_lens, judged

CASES = 200


def main(draws: int) -> None:
    """Print a line a draw."""
    for seed in range(1, draws + 1):
        random = np.random.default_rng(seed)
        left, better, fitted, doubted, asked = [], [], [], [], 0
        for _ in range(CASES):
            lens = random_lens(random)
            drawn = straight_things(lens, int(random.integers(4, 7)), random, 8, 0.2)
            lines = [line + random.normal(0, 0.7, line.shape) for line in drawn]
            others = straight_things(lens, 20, random, 9)
            begun = time.perf_counter()
            fit = fit_lens(lines, FULL_HD)
            fitted.append(time.perf_counter() - begun)
            doubt(fit, lines, FULL_HD)
            doubted.append(time.perf_counter() - begun - fitted[-1])
            more = drawn_where_asked(lens, lines, np.random.default_rng(len(left)))
            asked += len(more) > 0
            left.append(_elsewhere(fit.lens, others))
            better.append(_elsewhere(fit_lens(lines + more, FULL_HD).lens, others) if more else left[-1])
        print(
            f"draw {seed}: as drawn {_told(left)}; where asked {_told(better)}, asked in {100 * asked / CASES:.0f} %; "
            f"lens {_times(fitted)}, doubt {_times(doubted)} ms",
            flush=True,
        )


def _elsewhere(lens: Lens, others: list[np.ndarray]) -> float:
    return float(np.sqrt(np.mean(np.square(judged(lens, others, FULL_HD).residuals))))


def _told(left: list[float]) -> str:
    return f"median {np.median(left):.2f}, 97 % {np.quantile(left, 0.97):.2f}, worst {max(left):.2f} px"


def _times(seconds: list[float]) -> str:
    return ", ".join(f"{1000 * value:.0f}" for value in np.quantile(seconds, (0.5, 0.9, 1.0)))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5)
