"""The lens that a clip's motion tells, alone and with what is straight, and where it tells none."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from glass import straight_things
from turned import SIZE, Camera, anywhere, canyon, followed, swaying

from keen_horizon.core.errors import LensError, Stopped
from keen_horizon.core.finding.lens_by_motion.points import sweep, turned_points
from keen_horizon.core.finding.own_lens import OwnLens, own_lens
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.automatic import Edge
from keen_horizon.core.lens.lens import Lens, fisheye_of
from keen_horizon.core.lens.straightedges import judged
from keen_horizon.core.motion.measurement import Measurement

FRAMES = 70
FAR = (200.0, 400.0)
BARREL = Lens("division", (-0.22,), 0.012 - 0.008j)
FISHEYE = fisheye_of("equidistant", 130)


def far_things(random: np.random.Generator, count: int) -> np.ndarray:
    return anywhere(random, count, *FAR)


def left_over(found: Lens, true: Lens) -> float:
    """RMS over straight things that nobody looked at, px at 1000 px wide."""
    lines = straight_things(true, 40, np.random.default_rng(1), 9, size=SIZE)
    return float(np.sqrt((np.array(judged(found, lines, SIZE).residuals) ** 2).mean()) * 1000 / SIZE.width)


def edges_through(lens: Lens, count: int, seed: int = 2) -> list[Edge]:
    """Edges that are straight in the world, set to a third of a pixel."""
    random = np.random.default_rng(seed)
    lines = straight_things(lens, count, random, 12, size=SIZE)
    return [Edge(frame % 5, line + random.normal(0, 0.3, line.shape)) for frame, line in enumerate(lines)]


@pytest.mark.parametrize(
    ("lens", "focal", "readout"),
    [(BARREL, 1.05, 0.0), (FISHEYE, FISHEYE.k[0] ** -0.5, 0.6)],
    ids=["barrel", "fisheye, its rows read in turn"],
)
def test_a_pan_tells_the_lens_and_its_focal_length(lens: Lens, focal: float, readout: float) -> None:
    camera = Camera(lens, focal, swaying(FRAMES, 1.0, seed=5, pan=24), readout=readout)
    found = own_lens([], SIZE, followed(camera, FRAMES, far_things, passing=0.15))
    shown = focal if found.focal is None else found.focal
    print(
        f"{left_over(found.lens, lens):.3f} px, focal length {100 * (shown / focal - 1):+.2f} %, {found.confidence:.2f}"
    )
    assert found.by == "motion"
    assert left_over(found.lens, lens) < 0.3
    assert shown == pytest.approx(focal, rel=0.01)
    assert found.bends_px(SIZE) > 1


def test_walking_past_near_things_does_not_draw_the_lens_aside() -> None:
    """What a walker passes moves by how near it is; and a focal length that this leaves open is not told."""
    camera = Camera(BARREL, 1.05, swaying(FRAMES, 1.0, seed=6, pan=35), walk=0.05)
    found = own_lens([], SIZE, followed(camera, FRAMES, canyon))
    print(f"{left_over(found.lens, BARREL):.3f} px, focal length {found.focal}")
    assert found.by == "motion"
    assert left_over(found.lens, BARREL) < 0.8
    assert found.focal is None or found.focal == pytest.approx(1.05, rel=0.03)


def test_a_camera_that_hardly_turns_is_refused_unless_straight_things_help() -> None:
    camera = Camera(BARREL, 1.05, swaying(FRAMES, 0.08, seed=7))
    measurement = followed(camera, FRAMES, far_things)
    with pytest.raises(LensError, match="turns too little"):
        own_lens([], SIZE, measurement)
    helped = own_lens(edges_through(BARREL, 24), SIZE, measurement)
    assert left_over(helped.lens, BARREL) < 0.5


def test_a_wall_that_the_camera_passes_is_no_lens() -> None:
    """What lies in one plane and is passed sideways moves as in a picture that is shifted: it bends nothing."""
    size = Size(960, 540)
    across, down = np.meshgrid(np.linspace(40, 900, 9), np.linspace(40, 500, 6))
    grid = np.stack([across.ravel(), down.ravel()], -1)
    random = np.random.default_rng(3)
    camera = Camera(Lens("division", (0.0,)), 1.2, swaying(FRAMES, 0.5, seed=8))
    measurement = followed(camera, FRAMES, far_things)
    shifts = 4 * np.cumsum(random.normal(0, 1, (FRAMES - 1, 2)), 0)
    rows = np.tile(grid, (FRAMES - 1, 1))
    moved = rows + np.repeat(shifts, len(grid), 0) + random.normal(0, 0.05, rows.shape)
    starts = np.arange(FRAMES, dtype=np.int64) * len(grid)
    evidence = replace(
        measurement.evidence,
        starts=starts,
        points=rows.astype(np.float32),
        moved=moved.astype(np.float32),
        believed=np.ones(len(rows), np.bool_),
        identity=np.tile(np.arange(len(grid)), FRAMES - 1).astype(np.int32),
        matches=replace(measurement.evidence.matches.part(0, 0)),
    )
    with pytest.raises(LensError):
        own_lens([], size, replace(measurement, evidence=evidence))


def test_straight_things_and_motion_are_one_search() -> None:
    """The motion alone leaves the bend open by more than both together do, and lines know no focal length."""
    camera = Camera(BARREL, 1.05, swaying(FRAMES, 0.5, seed=9, pan=14))
    measurement = followed(camera, FRAMES, far_things, noise=0.3)
    both = own_lens(edges_through(BARREL, 24), SIZE, measurement)
    assert both.by == "both"
    assert both.focal == pytest.approx(1.05, rel=0.03)
    assert left_over(both.lens, BARREL) < 0.3


def test_what_no_measurement_tells_is_left_to_the_edges() -> None:
    camera = Camera(BARREL, 1.05, swaying(FRAMES, 1.0, seed=5, pan=24))
    measurement = followed(camera, FRAMES, far_things)
    older = replace(measurement, evidence=replace(measurement.evidence, identity=np.zeros(0, np.int32)))
    for untold in (older, Measurement.still(SIZE, 0, np.arange(FRAMES) / 25), None):
        assert own_lens(edges_through(BARREL, 24), SIZE, untold).by == "edges"
        with pytest.raises(LensError, match="too few long edges"):
            own_lens([], SIZE, untold)


def test_only_a_shot_with_much_of_a_pan_is_looked_at() -> None:
    """Of a long clip the stretch that turns most is taken, and never across a cut."""
    frames = 190
    angles = swaying(frames, 0.2, seed=3)
    angles[:, 1] += 25 * np.clip((np.arange(len(angles)) / 4 - 130) / 50, 0, 1)
    measurement = followed(Camera(BARREL, 1.05, angles), frames, far_things)
    points = turned_points(measurement)
    assert points is not None
    assert points.pairs == 150
    cut = measurement.cut.copy()
    cut[119] = True
    points = turned_points(replace(measurement, cut=cut))
    assert points is not None
    assert points.pairs == frames - 1 - 120
    assert sweep(measurement) > 0.3


def test_the_search_can_be_stopped() -> None:
    camera = Camera(BARREL, 1.05, swaying(FRAMES, 1.0, seed=5, pan=24))
    calls = 0

    def stop() -> None:
        nonlocal calls
        calls += 1
        if calls == 3:
            raise Stopped("stopped")

    with pytest.raises(Stopped):
        own_lens([], SIZE, followed(camera, FRAMES, far_things), stop)


def test_a_lens_by_motion_says_how_straight_things_were() -> None:
    assert OwnLens(FISHEYE, None, "motion", (), 1.0).bends_px(SIZE) > 3
    assert OwnLens(Lens("division", (0.0,)), 1.0, "motion", (), 1.0).bends_px(SIZE) < 0.01
