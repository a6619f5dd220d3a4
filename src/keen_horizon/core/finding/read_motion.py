"""A camera's motion finer than frames, solved together with the readout of its rows, or for one that is known.

A point of a shaken clip moves by what the camera did between two moments that depend on its rows: t = frame + readout
(row / rows - 1/2). The motion is a cubic B-spline in six figures; it and the readout are solved by Gauss-Newton steps
with Tukey's weights (Holland & Welsch 1977). A prior on the differences of the controls carries the spline where rows
tell nothing; its strength is retuned to what it meets.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import scipy.linalg

from keen_horizon.core.finding.followed_noise import RAYLEIGH
from keen_horizon.core.finding.read_pairs import ReadPairs
from keen_horizon.core.finding.read_spline import Moments, Spline, parts_read
from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.geometry.similarity import Complex, Floats, fit_similarities
from keen_horizon.core.glass.shutter import FIGURES, FURTHEST, LEAST_DEPTH
from keen_horizon.core.motion.matched import row_medians

CORRELATED = 3.0  # errors of tracks go together: rows count as with so many times their noise (at 1, it reads as 0.07)
TUNED = 1.3  # the prior's deviation, of the RMS of what it is put on
TILT_PX = 60.0  # deviation of a tilt, at the half-diagonal
LOOSE_PX = 1e4  # deviation of the controls themselves
FIRST_DEVIATION, LEAST_DEVIATION = 0.2, 1e-3  # px, of the controls' differences: at first, and ever, at least
LONGEST_STEP = 0.4  # of the readout
SETTLED, SETTLED_PX = 1e-4, 0.05  # a step's change of the readout, and of the motion from one control to the next: what
# rows moved by is then 0.003 px from where more steps lead
ONE, OTHER = np.tril_indices(FIGURES)  # figures, every two once
BLOCKS = 12  # of the clip, whose disagreement tells the doubt


@dataclass(frozen=True)
class SolvedReadout:
    """A readout with its `cost`, its own `doubt`, the motion (px) that a readout of 1 makes (`signal`), and the share
    of the points that is believed.
    """

    readout: float
    cost: float
    doubt: float
    signal: float
    believed: float


def solved_readout(pairs: ReadPairs, readout: float, steps: int, knots: float, order: int) -> SolvedReadout:
    """The best readout near one, and how well it is known."""
    spline = Spline.over(pairs, FURTHEST, knots, order)
    state = _State.first(pairs, spline, readout)
    for done in range(steps):
        before = state.readout
        _step(spline, state, _normal(parts_read(pairs, spline, state.readout), spline, state))
        if done > 2 and abs(state.readout - before) < SETTLED:
            break
    return _judged(pairs, spline, state)


@dataclass(frozen=True)
class SolvedMotion:
    """The motion that a spline's `controls` (K, FIGURES) make, px of the pairs that told it."""

    spline: Spline
    controls: Floats

    def at(self, times: Floats) -> Floats:
        """The figures (..., FIGURES) at times; only differences of near ones mean anything."""
        first, weights, _ = self.spline.at(times)
        return np.asarray(sum(weights[..., i, None] * self.controls[first + i] for i in range(4)))


def solved_motion(pairs: ReadPairs, readout: float, steps: int, knots: float, order: int) -> SolvedMotion:
    """The motion that pairs tell, their rows read with a known readout, after some steps at most.

    Raises LinAlgError where they tell none.
    """
    spline = Spline.over(pairs, abs(readout), knots, order)
    state, parts = _State.first(pairs, spline, readout), list(parts_read(pairs, spline, readout, known=True))
    for _ in range(steps):
        before = state.controls
        normal = _normal(parts, spline, state, known=True)
        _take(spline, state, normal.solved(normal.wanted))
        if np.abs(np.diff(state.controls - before, axis=0)).max() < SETTLED_PX:
            break
    return SolvedMotion(spline, state.controls)


@dataclass
class _State:
    """The controls (K, 6), the readout, and the deviation (6,) of the controls' differences."""

    controls: Floats
    readout: float
    deviation: Floats

    @staticmethod
    def first(pairs: ReadPairs, spline: Spline, readout: float) -> _State:
        """The motion that pairs show if every frame is read at once, evenly from one to the next."""
        z, t = fit_similarities(pairs.source, pairs.target, pairs.there * pairs.trust)
        turned = np.log(z) * pairs.half_diagonal
        steps = np.stack([turned.real, turned.imag, t.real, t.imag], -1)
        ends = np.stack([pairs.began, pairs.began + pairs.lasted], -1).ravel()
        stood = np.repeat(np.cumsum(steps, axis=0), 2, axis=0)
        stood[::2] -= steps
        controls = np.zeros((spline.count, FIGURES))
        for figure, values in enumerate(stood.T):
            controls[:, figure] = np.interp(spline.times, ends, values)
        return _State(controls, readout, np.maximum(_met(controls, spline), FIRST_DEVIATION))


@dataclass(frozen=True)
class _Seen:
    """What the M points of E pairs say near a state, across and down as one complex number each.

    A point moves by the `motion` (FIGURES, E, M) of each figure, times its shares of the controls, which are near those
    of its pair's `windows` (E, S, FIGURES); `errors` and `weights` (E, M); how many are believed.
    """

    moments: Moments
    windows: Floats
    motion: Complex
    errors: Complex
    weights: Floats
    believed: int
    cost: float

    def products(self) -> Floats:
        """What the points (E, M) say of figures ONE and OTHER together (P, E, M)."""
        across, down = self.motion.real, self.motion.imag
        weighted_across, weighted_down = across * self.weights, down * self.weights
        return np.asarray(weighted_across[ONE] * across[OTHER] + weighted_down[ONE] * down[OTHER])

    def asked(self, moves: Complex, unknowns: int) -> Floats:
        """What is asked of all the unknown figures of the controls by moves (E, M) of the points."""
        weighted = self.weights * moves
        of_figures = self.motion.real * weighted.real + self.motion.imag * weighted.imag
        shared = np.swapaxes(self.moments.shares, 1, 2) @ np.moveaxis(of_figures, 0, 2)
        places = FIGURES * self.moments.opens[:, None] + np.arange(FIGURES * self.moments.shares.shape[2])
        return np.asarray(np.bincount(places.ravel(), shared.ravel(), unknowns), np.float64)

    def moved(self, controls: Floats) -> Complex:
        """How far the points (E, M) move for a change of the controls (K, FIGURES)."""
        return self._of_figures(self.moments.shares @ self.moments.windows(controls))

    def later(self) -> Complex:
        """How far the points (E, M) move for a change of the readout that is sought."""
        assert self.moments.slopes is not None
        return self._of_figures(self.moments.slopes @ self.windows)

    def _of_figures(self, figures: Floats) -> Complex:
        return np.asarray((self.motion * np.moveaxis(figures, -1, 0)).sum(0))


@dataclass(frozen=True)
class _Normal:
    """The normal equations: `band` of the controls, `border` of the readout with them, right hand sides."""

    factor: tuple[Floats, bool]
    wanted: Floats
    border: Floats
    late: float
    late_wanted: float

    def solved(self, right: Floats) -> Floats:
        """What the controls would be for a right hand side."""
        return np.asarray(scipy.linalg.cho_solve_banded(self.factor, right))


def _seen(pairs: ReadPairs, moments: Moments, state: _State) -> _Seen:
    h, source, windows = pairs.half_diagonal, pairs.source, moments.windows(state.controls)
    moved = moments.shares @ windows
    grown = np.exp((moved[..., 0] + 1j * moved[..., 1]) / h)
    tilt = moved[..., 4] + 1j * moved[..., 5]
    depth = 1 + (np.conj(tilt) * source).real / h**2
    found = grown * source / np.maximum(depth, LEAST_DEPTH) + moved[..., 2] + 1j * moved[..., 3]
    ones = np.ones_like(source)
    turned = grown * source / h
    tilting = -source / h**2
    motion = np.stack([turned, 1j * turned, ones, 1j * ones, tilting * source.real, tilting * source.imag])
    errors = np.where(pairs.there, pairs.target - found, 0)
    size = np.abs(errors) * np.sqrt(pairs.trust)
    spread = np.maximum(pairs.noise, row_medians(size, pairs.there) / RAYLEIGH)[:, None]
    belief = pairs.there * tukey(size, spread * RAYLEIGH)
    weights = belief * pairs.trust / (CORRELATED * pairs.noise[:, None]) ** 2
    limit = CORRELATED * TUKEY_REACH * pairs.noise[:, None]
    cost = float((pairs.there * np.minimum(size / limit, 1) ** 2).sum())
    return _Seen(moments, windows, motion, errors, weights, int((belief > 0.5).sum()), cost)


def _normal(parts: Iterable[tuple[ReadPairs, Moments]], spline: Spline, state: _State, known: bool = False) -> _Normal:
    """The equations near a state; of a `known` readout they say nothing."""
    unknowns = FIGURES * spline.count
    wanted, border = np.zeros(unknowns), np.zeros(unknowns)
    late, late_wanted = 1 / FURTHEST**2, -state.readout / FURTHEST**2
    blocks = np.zeros((spline.span, spline.count, len(ONE)))
    for pairs, moments in parts:
        seen = _seen(pairs, moments, state)
        blocks += moments.shared_out(seen.products(), spline.count)
        wanted += seen.asked(seen.errors, unknowns)
        if known:
            continue
        later = seen.later()
        border += seen.asked(later, unknowns)
        late += float((seen.weights * np.abs(later) ** 2).sum())
        late_wanted += float((seen.weights * np.conj(later) * seen.errors).real.sum())
    band = _banded(blocks)
    _add_prior(spline, state, band, wanted)
    return _Normal((scipy.linalg.cholesky_banded(band, lower=True), True), wanted, border, late, late_wanted)


def _banded(blocks: Floats) -> Floats:
    """The lower band (S * FIGURES, K * FIGURES) of what `Moments.shared_out` says of figures ONE and OTHER."""
    span, count, _ = blocks.shape
    square = np.zeros((span, count, FIGURES, FIGURES))
    square[..., ONE, OTHER] = square[..., OTHER, ONE] = blocks
    band = np.zeros((span * FIGURES, count, FIGURES))
    for i, j in np.ndindex(FIGURES, FIGURES):  # figures of the later control, and of the earlier
        if i >= j:
            band[i - j :: FIGURES, :, j] = square[:, :, i, j]
        else:
            band[FIGURES + i - j :: FIGURES, :, j][: span - 1] = square[1:, :, i, j]
    return band.reshape(span * FIGURES, -1)


def _add_prior(spline: Spline, state: _State, band: Floats, wanted: Floats) -> None:
    """Differences of the controls, and their tilts, drawn to nothing; and a trace of all, since only motion counts."""
    taps = np.diff(np.eye(spline.order + 1), spline.order, axis=0)[0]
    strength = 1 / state.deviation**2
    parts = np.arange(spline.count - spline.order)[:, None] * FIGURES + np.arange(FIGURES)
    differences = np.diff(state.controls, spline.order, axis=0)
    for i, tap in enumerate(taps):
        wanted[parts + i * FIGURES] -= strength * tap * differences
        for j in range(i + 1):
            band[FIGURES * (i - j), parts + j * FIGURES] += strength * tap * taps[j]
    ridge = np.full(FIGURES, 1 / LOOSE_PX**2)
    ridge[4:] = 1 / TILT_PX**2
    band[0] += np.tile(ridge, spline.count)
    wanted -= (ridge * state.controls).ravel()


def _step(spline: Spline, state: _State, normal: _Normal) -> None:
    """One step of Gauss and Newton, the readout solved after the controls (Schur)."""
    without, along = normal.solved(normal.wanted), normal.solved(normal.border)
    left = normal.late - float(normal.border @ along)
    change = float(np.clip((normal.late_wanted - float(normal.border @ without)) / left, -LONGEST_STEP, LONGEST_STEP))
    state.readout = float(np.clip(state.readout + change, -FURTHEST, FURTHEST))
    _take(spline, state, without - along * change)


def _take(spline: Spline, state: _State, change: Floats) -> None:
    """Change the controls, and retune the prior to them."""
    state.controls = state.controls + change.reshape(-1, FIGURES)
    state.deviation = np.maximum(_met(state.controls, spline), LEAST_DEVIATION)


def _met(controls: Floats, spline: Spline) -> Floats:
    """The deviation (6,) that the prior is given for such controls."""
    return np.asarray(TUNED * np.sqrt((np.diff(controls, spline.order, axis=0) ** 2).mean(0)))


def _judged(pairs: ReadPairs, spline: Spline, state: _State) -> SolvedReadout:
    """How well the readout is known: from how differently parts of the clip pull at it (a sandwich estimate)."""
    parts = list(parts_read(pairs, spline, state.readout))
    normal = _normal(parts, spline, state)
    along = normal.solved(normal.border)
    pulls = np.zeros(0)
    felt = total = cost = 0.0
    believed = there = 0
    for part, moments in parts:
        seen = _seen(part, moments, state)
        late = seen.later() - seen.moved(along.reshape(-1, FIGURES))  # what the controls cannot do instead
        pulls = np.r_[pulls, (seen.weights * np.conj(late) * seen.errors).real.sum(1)]
        felt += float((seen.weights * np.abs(late) ** 2).sum())
        total += float(seen.weights.sum())
        cost += seen.cost
        believed += seen.believed
        there += int(part.there.sum())
    blocks = np.array([part.sum() for part in np.array_split(pulls, BLOCKS)])
    information = normal.late - float(normal.border @ along)
    doubt = float(np.sqrt(BLOCKS / (BLOCKS - 1) * ((blocks - blocks.mean()) ** 2).sum()) / information)
    signal = float(np.sqrt(felt / max(total, 1e-12)))
    return SolvedReadout(state.readout, cost, doubt, signal, believed / max(1, there))
