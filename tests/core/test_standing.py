"""A pinned place of what stands still, and a pinned thing that moves: what passes in front is parted from either."""

from __future__ import annotations

import numpy as np
import pytest
from staging import SIZE, measured, outline, passing

from keen_horizon.core.motion.carrying import Carrier, stands_still
from keen_horizon.core.motion.pin import Trail, follow_point
from keen_horizon.core.motion.standing import StandingFollower
from keen_horizon.core.treatment.motion import Mark
from keen_horizon.simulator.staged import Sheet, staged


def test_a_pinned_place_stays_where_it_is_while_something_passes_and_a_pinned_thing_is_gone_along_with() -> None:
    """A window of the town that the cloth passes before, hidden for a while; and the cloth itself."""
    sheets = passing(90)
    pictures = [frame for frame, _ in staged(sheets, SIZE)]
    measurement = measured(sheets)
    carrier = Carrier.by(measurement)

    def trail(sheet: Sheet, frame: int, place: complex) -> tuple[Trail, np.ndarray]:
        on_sheet = np.linalg.inv(sheet.frame_from_sheet[frame]) @ (place.real, place.imag, 1.0)
        true = sheet.frame_from_sheet[frame:] @ on_sheet
        mark = Mark(frame=frame, x=place.real, y=place.imag)

        def carry(at: int, point: complex) -> complex:
            return complex(carrier.moved(np.array([point]), frame + at - 1, frame + at)[0])

        found = follow_point(pictures[frame:], place, carry, stands_still(measurement, mark))
        return found, true[:, 0] + 1j * true[:, 1]

    found, true = trail(sheets[0], 0, 420 + 150j)
    hidden = found.confidence <= 0
    assert 15 < hidden.sum() < 60
    apart = np.abs(found.points - true - (found.points - true)[1:].mean())[1:]
    assert np.sqrt((apart**2).mean()) < 0.1
    assert apart.max() < 0.3

    on_cloth = complex(*outline(sheets[1], 25).mean(0)) - 40j
    found, true = trail(sheets[1], 25, on_cloth)
    seen = (true.real > 40) & (true.real < SIZE.width - 40)
    assert np.abs(found.points - true)[seen].max() < 1.0


@pytest.mark.parametrize(("elsewhere", "moves"), [(14 + 0.5j, False), (5j, True)])
def test_along_a_kerb_what_looks_alike_elsewhere_says_nothing(elsewhere: complex, moves: bool) -> None:
    rows = np.arange(120)[:, None] + np.zeros(160)
    kerb = (90 + 60 * (rows > 58) + np.random.default_rng(1).normal(0, 1.5, rows.shape)).astype(np.uint8)
    follower = StandingFollower(kerb, 80 + 60j, 18)
    for _ in range(4):
        follower.follow(kerb, lambda place: place, (80 + 60j + elsewhere, 0.98))
    assert follower.moves == moves
