"""Fall-off, from places that a moving camera saw nearer the middle of the frame and nearer its corners.

A place's light, as it was coded, is the same in every frame but for the glass, the exposure and its own changes:

    log light(k, i) = S_k + b_k t_i + e_i + log gain(r),

a level and a trend for every place k, which are eliminated, an exposure for every frame i, which changes smoothly, and
the gain of `core.glass.falloff`. Solved by Gauss-Newton steps with weights that let what does not fit count little.
Only samples whose *expected* code is well exposed are used: choosing by a sample's own would favour bright noise in
dark corners.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix

from keen_horizon.core.finding.dead import FoundDead
from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.media.transfer import PowerLaw

Floats = NDArray[np.float64]
Indices = NDArray[np.intp]

WELL_EXPOSED = (0.11, 0.92)  # coded shares that are expected
READABLE = (0.05, 0.985)  # coded shares as they are
CODE_NOISE = 0.004  # of the coded range, of a mean over a cell
PLACE_NOISE = 0.12  # cells, that a place's slope is multiplied by
CORRELATED = 0.05  # of the samples are as good as independent
PRIORS = np.array([0.7, 0.6, 0.35, 0.025, 0.025])  # c1, c2, c3, centre
EXPOSURE_CHANGE = 0.003  # of the second difference of log exposure from frame to frame
TREND = 0.03  # of log light over the range, that a place may change by itself
ROUNDS = 9
CAUCHY_ROUNDS = 3
FEWEST_FRAMES, FEWEST_SAMPLES = 4, 400  # of a place; of the clip
WORST, MEAN = 0.025, 0.012  # of the light, that a fall-off which is told may be off by
LOOKED_AT = 13  # places across the frame where its doubt is told
REGIONS = 6  # across the frame, that may be wrong together


@dataclass(frozen=True)
class Samples:
    """What places showed: `place` and `frame` (n,) indices, the coded `value` (n,) 0 ... 1 and its `slope` a cell, and
    where in the frame, `x` and `y` (n,) half-diagonals from the middle.
    """

    place: Indices
    frame: Indices
    value: Floats
    slope: Floats
    x: Floats
    y: Floats

    def only(self, kept: NDArray[np.bool_]) -> Samples:
        """Those that are kept."""
        return Samples(
            self.place[kept], self.frame[kept], self.value[kept], self.slope[kept], self.x[kept], self.y[kept]
        )


@dataclass(frozen=True)
class FoundFalloff:
    """A fall-off with the standard errors of c1 ... c3 and the centre; `doubt` is how far the light at the worst place
    of the frame may be off, `mean` that of all, shares of the middle's; `enough` whether the clip tells. `dead` is
    where no light arrives at all, where that was looked for and found.
    """

    falloff: Falloff
    errors: tuple[float, ...]
    doubt: float
    mean: float
    enough: bool
    dead: FoundDead | None = None

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "coefficients": [round(float(c), 5) for c in self.falloff.coefficients],
            "centre_x": round(self.falloff.centre.real, 5),
            "centre_y": round(self.falloff.centre.imag, 5),
            "errors": [round(float(e), 5) for e in self.errors],
            "doubt": round(self.doubt, 5),
            "mean_doubt": round(self.mean, 5),
            "enough": self.enough,
            "dead": None if self.dead is None else self.dead.to_json(),
        }


NOT_TOLD = FoundFalloff(Falloff((0.0, 0.0, 0.0)), (1.0,) * 5, 1.0, 1.0, False)


def measured_falloff(samples: Samples, law: PowerLaw, aspect: float, dead: FoundDead | None = None) -> FoundFalloff:
    """The fall-off that samples show, coded by a power law, of frames `aspect` times as wide as tall, where their light
    is not `dead`.
    """
    readable = (samples.value > READABLE[0]) & (samples.value < READABLE[1])
    samples = _often_seen(samples.only(readable & (samples.value > law.toe)))
    if len(samples.value) < FEWEST_SAMPLES:
        return replace(NOT_TOLD, dead=dead)
    frames = int(samples.frame.max()) + 1
    figures, exposures = np.zeros(5), np.zeros(frames)
    fit = _Fit(samples, law, frames)
    for number in range(ROUNDS):
        fit.weigh(figures, exposures, number)
        if fit.used < FEWEST_SAMPLES:
            return replace(NOT_TOLD, dead=dead)
        step = fit.step(figures, exposures)
        figures = figures + step[:5]
        figures[3:] = np.clip(figures[3:], -0.3, 0.3)
        exposures = exposures + step[5:]
    fit.weigh(figures, exposures, ROUNDS)
    errors = fit.covariance(figures, exposures)
    doubts = doubts_of(figures, errors, aspect, dead)
    falloff = Falloff(tuple(figures[:3]), complex(figures[3], figures[4]))
    sure = bool(doubts.max() < WORST and doubts.mean() < MEAN)
    return FoundFalloff(falloff, tuple(np.sqrt(np.diag(errors))), float(doubts.max()), float(doubts.mean()), sure, dead)


def _often_seen(samples: Samples) -> Samples:
    """Those of places that were seen in enough frames, and places numbered anew."""
    counts = np.bincount(samples.place)
    samples = samples.only(counts[samples.place] >= FEWEST_FRAMES)
    _, place = np.unique(samples.place, return_inverse=True)
    return Samples(place, samples.frame, samples.value, samples.slope, samples.x, samples.y)


def log_gain(figures: Floats, x: Floats, y: Floats) -> tuple[Floats, Floats]:
    """The log of the gain at places (n,), and its slopes (n, 5) by the figures."""
    across, down = x - figures[3], y - figures[4]
    square = across**2 + down**2
    powers = np.stack([square, square**2, square**3], -1)
    gain = np.maximum(1 + powers @ figures[:3], 0.05)
    by_square = figures[0] + 2 * figures[1] * square + 3 * figures[2] * square**2
    slopes = np.concatenate([powers, (-2 * by_square * across)[:, None], (-2 * by_square * down)[:, None]], 1)
    return np.log(gain), slopes / gain[:, None]


class _Fit:
    """The normal equations of one set of samples, places eliminated; weighed anew every round."""

    def __init__(self, samples: Samples, law: PowerLaw, frames: int) -> None:
        self.samples, self.law, self.frames = samples, law, frames
        self.light = np.log(samples.value + law.offset) / law.exponent
        self.time = samples.frame / max(1, frames - 1) - 0.5
        count = len(samples.value)
        self.of_place = csr_matrix((np.ones(count), (samples.place, np.arange(count))))
        self.weights = np.ones(count)

    @property
    def used(self) -> int:
        """How many samples count."""
        return int((self.weights > 0).sum())

    def _spreads(self, codes: Floats) -> Floats:
        """How far the log of the light of samples may be off, where their codes are so."""
        of_code = np.hypot(CODE_NOISE, PLACE_NOISE * self.samples.slope)
        return np.asarray(of_code / ((np.maximum(codes, 0.02) + self.law.offset) * self.law.exponent))

    def weigh(self, figures: Floats, exposures: Floats, number: int) -> None:
        """Set the samples' weights by how well they fit, in a round."""
        gain, _ = log_gain(figures, self.samples.x, self.samples.y)
        left = self.light - gain - exposures[self.samples.frame]
        if number < CAUCHY_ROUNDS:  # against a place's median: who walks by is not its level
            level, trend = _medians(left, self.samples.place), np.zeros(self.of_place.shape[0])
        else:
            level, trend = self._levels(left)
        expected = level[self.samples.place] + trend[self.samples.place] * self.time
        codes = np.exp((expected + gain + exposures[self.samples.frame]) * self.law.exponent) - self.law.offset
        spread = self._spreads(codes)
        off = (left - expected) / spread
        scale = max(1.0, 1.4826 * float(np.median(np.abs(off))))
        well = (codes > WELL_EXPOSED[0]) & (codes < WELL_EXPOSED[1])
        if number < CAUCHY_ROUNDS:
            trust = 1 / (1 + (off / (2.385 * scale)) ** 2)
        else:
            reach = 8.0 if number < CAUCHY_ROUNDS + 2 else TUKEY_REACH
            trust = tukey(off, scale * reach / TUKEY_REACH)
            usual = max(1e-4, 1.4826 * float(np.median(np.abs(trend))))
            trust = trust / (1 + (trend / (10 * usual)) ** 2)[self.samples.place]
        self.weights = np.where(well, trust, 0.0) * CORRELATED / (spread * scale) ** 2

    def _levels(self, left: Floats) -> tuple[Floats, Floats]:
        """Level and trend of every place, by the weights."""
        inverse = self._inverses()
        sums = np.stack([self.of_place @ (self.weights * left), self.of_place @ (self.weights * left * self.time)], -1)
        found = np.einsum("kij,kj->ki", inverse, sums)
        return found[:, 0], found[:, 1]

    def _inverses(self) -> Floats:
        """Of every place's normal matrix of level and trend (K, 2, 2)."""
        normal = np.zeros((self.of_place.shape[0], 2, 2))
        normal[:, 0, 0] = self.of_place @ self.weights + 1e-9
        normal[:, 0, 1] = normal[:, 1, 0] = self.of_place @ (self.weights * self.time)
        normal[:, 1, 1] = self.of_place @ (self.weights * self.time**2) + CORRELATED / TREND**2
        return np.asarray(np.linalg.inv(normal))

    def _eliminated(self, figures: Floats, exposures: Floats) -> tuple[Floats, Floats]:
        """Slopes (n, 5 + frames) and what is left over (n,), less what levels and trends of the places take."""
        gain, slopes = log_gain(figures, self.samples.x, self.samples.y)
        count = len(gain)
        whole = np.zeros((count, 5 + self.frames))
        whole[:, :5] = slopes
        whole[np.arange(count), 5 + self.samples.frame] = 1.0
        left = self.light - gain - exposures[self.samples.frame]
        table = np.concatenate([whole, left[:, None]], 1)
        weighted = self.weights[:, None] * table
        sums = np.stack([self.of_place @ weighted, self.of_place @ (self.time[:, None] * weighted)], 1)
        found = self._inverses() @ sums
        mine = found[self.samples.place]
        table -= mine[:, 0] + self.time[:, None] * mine[:, 1]
        return table[:, :-1], table[:, -1]

    def _priors(self) -> Floats:
        """The normal matrix of what is known beforehand."""
        prior = np.zeros((5 + self.frames, 5 + self.frames))
        prior[:5, :5] = np.diag(1 / PRIORS**2)
        bends = np.diff(np.eye(self.frames), 2, axis=0) / EXPOSURE_CHANGE
        prior[5:, 5:] = bends.T @ bends + 1e-3 * np.eye(self.frames)
        return prior

    def step(self, figures: Floats, exposures: Floats) -> Floats:
        """A Gauss-Newton step of the figures and the exposures."""
        gain, slopes = log_gain(figures, self.samples.x, self.samples.y)
        left = self.light - gain - exposures[self.samples.frame]
        table = np.concatenate([slopes, left[:, None]], 1)
        taken = self._taken_by_places(table)
        normal = self._normal(table) - taken
        prior = self._priors()
        order = np.r_[0:5, 6 : 6 + self.frames]
        wanted = normal[order, 5] - prior @ np.concatenate([figures, exposures])
        return np.asarray(np.linalg.solve(normal[np.ix_(order, order)] + prior, wanted))

    def _normal(self, table: Floats) -> Floats:
        """Products of the columns of `table` (n, 6) and of every frame's own column, by the weights (6 + F, 6 + F)."""
        weighted = self.weights[:, None] * table
        count = self.frames
        of_frame = csr_matrix((np.ones(len(table)), (self.samples.frame, np.arange(len(table)))), (count, len(table)))
        normal = np.zeros((6 + count, 6 + count))
        normal[:6, :6] = table.T @ weighted
        normal[6:, :6] = of_frame @ weighted
        normal[:6, 6:] = normal[6:, :6].T
        normal[6:, 6:] = np.diag(of_frame @ self.weights)
        return normal

    def _taken_by_places(self, table: Floats) -> Floats:
        """What levels and trends of the places take of `_normal`."""
        weighted = self.weights[:, None] * table
        places, count = self.of_place.shape[0], self.frames
        sums = np.zeros((places, 2, 6 + count))
        sums[:, 0, :6] = self.of_place @ weighted
        sums[:, 1, :6] = self.of_place @ (self.time[:, None] * weighted)
        cells = self.samples.place * count + self.samples.frame
        sums[:, 0, 6:] = np.bincount(cells, self.weights, places * count).reshape(places, count)
        sums[:, 1, 6:] = np.bincount(cells, self.weights * self.time, places * count).reshape(places, count)
        solved = self._inverses() @ sums
        return np.asarray(sums.reshape(-1, 6 + count).T @ solved.reshape(-1, 6 + count))

    def covariance(self, figures: Floats, exposures: Floats) -> Floats:
        """Of the figures (5, 5): what the weights say, twice, and what places, regions and times have in common."""
        slopes, left = self._eliminated(figures, exposures)
        inverse = np.linalg.inv(slopes.T @ (self.weights[:, None] * slopes) + self._priors())
        scores = (self.weights * left)[:, None] * slopes
        total = 2 * inverse
        region = (np.clip((self.samples.x + 1) / 2 * REGIONS, 0, REGIONS - 1).astype(int) * REGIONS
                  + np.clip((self.samples.y + 1) / 2 * REGIONS, 0, REGIONS - 1).astype(int))  # fmt: skip
        for group in (self.samples.place, region, self.samples.frame):
            sums = csr_matrix((np.ones(len(group)), (group, np.arange(len(group))))) @ scores
            total = total + inverse @ (sums.T @ sums) @ inverse
        return np.asarray(total[:5, :5])


def _medians(values: Floats, groups: Indices) -> Floats:
    """The median of every group's values; groups are numbered without a break."""
    order = np.lexsort((values, groups))
    counts = np.bincount(groups)
    starts = np.r_[0, np.cumsum(counts)[:-1]]
    ordered = values[order]
    return np.asarray((ordered[starts + (counts - 1) // 2] + ordered[starts + counts // 2]) / 2)


def doubts_of(figures: Floats, covariance: Floats, aspect: float, dead: FoundDead | None) -> Floats:
    """How far the light may be off at places all over the frame that are not dead, shares of the middle's."""
    half = np.hypot(aspect, 1)
    x, y = np.meshgrid(np.linspace(-1, 1, LOOKED_AT) * aspect / half, np.linspace(-1, 1, LOOKED_AT) / half)
    if dead is not None:
        lit = dead.edge.room(x + 1j * y) > 0
        x, y = x[lit], y[lit]
    logarithm, slopes = log_gain(figures, x.ravel(), y.ravel())
    off = np.sqrt(np.einsum("pi,ij,pj->p", slopes, covariance, slopes))
    return np.asarray(off * np.exp(logarithm))
