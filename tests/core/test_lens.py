"""The lens: its families undone exactly, found by straightedges, drawn without a gap, and motion seen through it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from glass import FULL_HD, drawn_where_asked, random_lens, straight_things
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from walks import treated, walked

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.errors import LensError, TreatmentError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import as_complex
from keen_horizon.core.lens.doubt import doubt
from keen_horizon.core.lens.lens import Lens, equivalent_focal_length, fields_of_view, fisheye_of
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.stage import LensStage, fill_step, kept_area, lens_stage
from keen_horizon.core.lens.straightedges import fit_lens, judged
from keen_horizon.core.mapping.frame_map import PlaneGrid
from keen_horizon.core.mapping.gaps import gap_mask
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.motion.behind_lens import straightened
from keen_horizon.core.treatment.document import Treatment

HALF_HD = Size(960, 540)


def everywhere(size: Size) -> np.ndarray:
    x, y = np.meshgrid(np.linspace(-0.5, size.width - 0.5, 41), np.linspace(-0.5, size.height - 0.5, 23))
    return np.stack([x.ravel(), y.ravel()], -1)


def alike(stage: LensStage) -> OpticsStage:
    """The stage of every frame."""
    return OpticsStage(0, (stage,))


LENSES = [
    Lens("division", (-0.35, 0.06, -0.01), 0.02 - 0.01j),
    Lens("inverse", (0.15, -0.1)),
    Lens("polynomial", (-0.11, 0.01), 0.01j, 1.0, 0.004, -0.003),
    Lens("polynomial", (0.1, 0.0), 0j, 1.33),
    Lens("series", (1.2, -0.05, 0.01)),
    fisheye_of("equidistant", 150),
    fisheye_of("equisolid", 160),
    fisheye_of("stereographic", 160),
]


@pytest.mark.parametrize("lens", LENSES, ids=lambda lens: lens.family)
def test_bending_undoes_straightening_to_a_thousandth_of_a_pixel(lens: Lens) -> None:
    points = everywhere(FULL_HD)
    assert np.abs(lens.bend(lens.straighten(points, FULL_HD), FULL_HD) - points).max() < 1e-3


@pytest.mark.parametrize("family", ["equidistant", "equisolid", "stereographic"])
def test_fields_of_view_are_those_asked_for(family: str) -> None:
    across, down, corner = fields_of_view(fisheye_of(family, 140), FULL_HD)
    assert corner == pytest.approx(140)
    assert down < across < corner
    assert fields_of_view(Lens("division", (-0.2,)), FULL_HD) is None
    assert equivalent_focal_length(2 * np.degrees(np.arctan(21.633 / 50))) == pytest.approx(50)


def test_fold_over_is_where_the_radius_stops_rising() -> None:
    for name, k in (("polynomial", (-0.3, 0.0)), ("division", (0.3, 0.1)), ("inverse", (-0.2, -0.1))):
        fold = FAMILIES[name].fold(np.array(k))
        lens = Lens(name, k)
        inside = lens.straightened_radius(np.linspace(0, fold * 0.97, 500))
        assert np.isfinite(inside).all()
        assert (np.diff(inside) > 0).all()
        assert lens.straightened_radius(np.array([fold * 1.001]))[0] == np.inf


def test_points_that_nothing_showed_lie_outside_the_source() -> None:
    found = Lens("polynomial", (-0.25,)).bend(np.array([[-2500.0, 540.0], [9000.0, 540.0]]), FULL_HD)
    assert (np.abs(found[:, 0] - 960) > 960).all()


def test_straightedges_tell_the_lens_and_where_one_more_would_tell_most() -> None:
    """Lines that go across 60 % of the width and pass the middle by a fifth of the half-diagonal.

    Where another line is asked for, one is drawn near there, up to six.
    """
    random, asked = np.random.default_rng(4), 0
    left, bent = [], []
    for _ in range(30):
        lens = random_lens(random)
        drawn = straight_things(lens, int(random.integers(4, 7)), random, 8, 0.2)
        lines = [line + random.normal(0, 0.7, line.shape) for line in drawn]
        others = straight_things(lens, 20, random, 9)
        more = drawn_where_asked(lens, lines, random)
        asked += len(more)
        judgement = judged(fit_lens(lines + more, FULL_HD).lens, others, FULL_HD)
        left.append(np.sqrt(np.mean(np.square(judgement.residuals))))
        bent.append(np.sqrt(np.mean(np.square(judgement.bends))))
    print(f"held out: median {np.median(left):.2f}, worst {max(left):.2f} px; {asked} lines asked for")
    assert np.median(left) <= 0.4
    assert max(left) <= 1.0
    assert 0 < asked < 10
    assert np.mean(np.array(left) <= bent) >= 0.99


def test_the_doubt_falls_with_better_lines() -> None:
    random = np.random.default_rng(3)
    lens = fisheye_of("equidistant", 150)
    drawn = straight_things(lens, 8, random, 8, 0.2)
    lines = [line + random.normal(0, 0.7, line.shape) for line in drawn]
    doubts = []
    for count in (1, 2, 4, 8):
        fit = fit_lens(lines[:count], FULL_HD)
        doubts.append(doubt(fit, lines[:count], FULL_HD))
    assert (np.diff([found.px for found in doubts]) < 0).all()
    assert doubts[0].line is not None
    assert doubts[-1].line is None
    least = judged(lens, [doubts[0].line], FULL_HD).bends[0]
    assert least > 10, "the line asked for is one that the lens bends"
    assert doubt(judged(fisheye_of("equidistant", 60), lines, FULL_HD), lines, FULL_HD) is None


def test_few_or_useless_lines_give_no_wild_lens() -> None:
    random = np.random.default_rng(2)
    for _ in range(20):
        straight = straight_things(Lens("division", (0.0,)), int(random.integers(1, 4)), random)
        fit = fit_lens([line + random.normal(0, 0.7, line.shape) for line in straight], FULL_HD)
        judgement = judged(fit.lens, straight_things(Lens("division", (0.0,)), 20, random), FULL_HD)
        assert np.sqrt(np.mean(np.square(judgement.residuals))) < 3.0
    with pytest.raises(LensError):
        fit_lens([np.zeros((2, 2))], FULL_HD)


def test_a_bowed_line_is_named_and_a_good_set_is_not_blamed() -> None:
    random = np.random.default_rng(5)
    named = blamed = 0
    for _ in range(20):
        lens = random_lens(random)
        lines = [line + random.normal(0, 0.7, line.shape) for line in straight_things(lens, 6, random, 8, 0.2)]
        blamed += fit_lens(lines, FULL_HD).odd is not None
        at = int(random.integers(6))
        along = lines[at][-1] - lines[at][0]
        aside = np.array([-along[1], along[0]]) / np.hypot(*along)
        lines[at] = lines[at] + aside * 12 * (1 - np.linspace(-1, 1, 8)[:, None] ** 2)
        named += fit_lens(lines, FULL_HD).odd == at
    assert named >= 17
    assert blamed <= 1


def test_a_family_that_cannot_fit_says_which_would() -> None:
    random = np.random.default_rng(9)
    lens = fisheye_of("equidistant", 165)
    fit = fit_lens(straight_things(lens, 6, random, 8, 0.2), FULL_HD, "inverse")
    assert fit.lens.family == "inverse"
    assert fit.ratio > 2
    assert fit.better in ("equidistant", "equisolid", "division")


@settings(max_examples=40)
@given(
    st.floats(-0.45, 0.15), st.floats(-0.05, 0.05), st.floats(-0.05, 0.05), st.floats(-0.05, 0.05), st.floats(0.8, 1.25)
)
def test_a_filled_window_has_no_gap(k1: float, k2: float, x: float, y: float, squeeze: float) -> None:
    lens = Lens("division", (k1, k2), complex(x, y), squeeze)
    assume(lens.fold > 1.2)
    stage = lens_stage(lens, HALF_HD, 0.0)
    path = treated(walked(2, 1, size=HALF_HD), {"intent": None})
    grid = PlaneGrid((540, 960), np.eye(3))
    fitting = frame_map(replace(path, stage=alike(stage)))
    assert not gap_mask(fitting.plane_maps(0, grid, grid), grid, fitting).any()
    wider = type(stage)(lens, HALF_HD, stage.step * 1.01)
    too_wide = frame_map(replace(path, stage=alike(wider)))
    assert gap_mask(too_wide.plane_maps(0, grid, grid), grid, too_wide).any()


def test_canvas_goes_from_no_gap_to_nothing_lost() -> None:
    lens = fisheye_of("equidistant", 130)
    steps = [lens_stage(lens, FULL_HD, canvas).step for canvas in (0.0, 0.5, 1.0)]
    assert steps[0] == fill_step(lens, FULL_HD) < steps[1] < steps[2]
    assert kept_area(lens_stage(lens, FULL_HD, 0.0)) < 0.8
    assert kept_area(lens_stage(lens, FULL_HD, 1.0)) > 0.99
    source_corner = lens_stage(lens, FULL_HD, 1.0).straighten(np.array([[-0.5, -0.5]]))
    assert (source_corner > -1).all()


def test_the_mesh_that_renders_is_the_map() -> None:
    path = treated(walked(4, 3, size=FULL_HD), {"intent": None})
    for lens in (fisheye_of("equidistant", 150), Lens("division", (-0.2,))):
        sampling = frame_map(replace(path, stage=alike(lens_stage(lens, FULL_HD, 0.0))))
        grid = PlaneGrid((1080, 1920), np.eye(3))
        x, y = sampling.plane_maps(1, grid, grid)
        rows, columns = np.arange(0, 1080, 7), np.arange(0, 1920, 11)
        places = np.stack([a.ravel() for a in np.meshgrid(columns, rows)], -1).astype(float)
        exact = sampling.places(1, places)
        found = np.stack([x[np.ix_(rows, columns)].ravel(), y[np.ix_(rows, columns)].ravel()], -1)
        assert np.abs(found - exact).max() < 0.05


def test_a_measurement_without_kept_points_is_straightened_from_its_poses() -> None:
    measurement = walked(40, 2, strength=0.3, pan=0.0)
    plain = straightened(measurement, alike(lens_stage(Lens("division", (0.0,)), measurement.size, 0.0)))
    corners = as_complex(measurement.size.corners())
    known = measurement.poses[np.zeros(40, int)].inverse() @ measurement.poses
    assert np.abs(plain.poses.apply(corners) - known.apply(corners)).max() < 0.2


def test_lens_documents_are_checked() -> None:
    good = {"family": "equidistant", "coefficients": [1.2], "canvas": 0.2}
    assert Treatment.from_json({"optics": {"lens": good}}).gaps_wanted
    for change, words in (
        ({"coefficients": [1, 2]}, "coefficients at most"),
        ({"coefficients": [-1]}, "cannot be negative"),
        ({"p1": 0.01}, "decentring"),
        ({"family": "division", "coefficients": [20.0]}, "folds over"),
        ({"family": "bulge"}, "optics.lens.family"),
    ):
        with pytest.raises(TreatmentError, match=words):
            Treatment.from_json({"optics": {"lens": good | change}})
