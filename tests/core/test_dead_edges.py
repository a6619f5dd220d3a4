"""Dead edges: hidden by the smallest zoom, bound with the motion, lent to, painted as gaps, never taken for picture."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from glass import rocking_camera, seen_by_turning_camera
from hypothesis import given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from scipy.optimize import minimize
from walks import HD, walked

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.geometry.similarity import as_complex
from keen_horizon.core.glass.dead import DeadEdge, smooth_step
from keen_horizon.core.lens.lens import fisheye_of
from keen_horizon.core.mapping.gaps import border_overhang
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Tags
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.ledger import ledger
from keen_horizon.core.path.notes import outcome_notes
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.warp import Warped, Warper
from keen_horizon.core.treatment.document import Treatment

ROUND = {"radius": 0.88, "centre_x": 0.06, "centre_y": -0.03}
STRAIGHT = {"sides": [{"angle_deg": 0, "distance": 0.75}, {"angle_deg": 45, "distance": 0.85}]}
WALK = walked(90, 1, 1.0)
FISHEYE = fisheye_of("equidistant", 150)
DINGHY = seen_by_turning_camera(FISHEYE, rocking_camera(120), HD)


def treated(edge: dict | None, motion: dict | None = None, edges: dict | None = None, **optics: object) -> Treatment:
    falloff = None if edge is None else {"coefficients": [0.0], "dead_edge": edge}
    return Treatment.from_json({
        "optics": {"falloff": falloff, **optics}, "motion": motion or {"intent": None}, "edges": edges or {},
    })  # fmt: skip


def overhang(path: CameraPath) -> float:
    sampling = frame_map(path)
    return max(border_overhang(sampling, frame) for frame in range(path.first, path.last + 1))


def smallest_zoom(edge: DeadEdge) -> float:
    """By trying windows about places all over the frame."""
    border = as_complex(HD.border(step=4)) - HD.centre

    def largest(place: np.ndarray) -> float:
        low, high = 0.0, 1.5
        for _ in range(40):
            middle = (low + high) / 2
            window = complex(*place) + middle * border
            inside = (np.abs(window.real) <= HD.width / 2 + 1e-9) & (np.abs(window.imag) <= HD.height / 2 + 1e-9)
            fits = inside.all() and (edge.room(window / HD.half_diagonal) >= 0).all()
            low, high = (middle, high) if fits else (low, middle)
        return low

    starts = ((0, 0), (40, 20), (-40, 20), (0, -40))
    found = [
        minimize(lambda at: -largest(at), start, method="Nelder-Mead", options={"xatol": 0.01}) for start in starts
    ]
    return float(1 / -min(result.fun for result in found))


@pytest.mark.parametrize("edge", [ROUND, STRAIGHT, {"radius": 0.9}, {"radius": 0.92, "softness": 0.05, **STRAIGHT}])
def test_one_window_hides_what_is_dead_at_the_smallest_zoom(edge: dict) -> None:
    wanted = treated(edge, edges={"zoom_limit": 2.0})
    path = solve_path(WALK, wanted)
    falloff = wanted.optics.falloff
    assert falloff is not None
    assert falloff.picture_ends is not None
    assert overhang(path) <= 0
    assert path.zoom.max() == pytest.approx(smallest_zoom(falloff.picture_ends), rel=0.004)
    assert path.zoom == pytest.approx(path.zoom[0])
    assert ledger(path).kept_area == pytest.approx(1 / path.zoom[0] ** 2, abs=0.03)


def test_the_light_that_counts_as_picture_moves_the_edge() -> None:
    soft = {"radius": 0.9, "softness": 0.1}
    zooms = [
        solve_path(WALK, treated({**soft, "least_light": light}, edges={"zoom_limit": 2.0})).zoom.max()
        for light in (0.1, 0.5, 0.9)
    ]
    assert zooms[0] < zooms[1] < zooms[2]
    assert zooms[1] == pytest.approx(1 / 0.9, rel=0.002)
    edge = DeadEdge(0.9, softness=0.1)
    for light in (0.1, 0.5, 0.9):
        assert smooth_step(edge.room(np.array([edge.where(light).radius + 0j])), 0.1) == pytest.approx(light)


@hypothesis_settings(max_examples=25)
@given(
    st.integers(0, 10**6), st.floats(0.1, 3), st.sampled_from(["glide", "hold", "level"]), st.floats(1.01, 1.9),
    st.floats(0.75, 1.0), st.floats(-0.08, 0.08), st.booleans(), st.sampled_from(["fill", "trim"]),
    st.sampled_from([None, {"family": "division", "coefficients": [-0.2]}]), st.sampled_from(["one", "breathing"]),
)  # fmt: skip
def test_the_limit_is_kept_and_nothing_dead_seen_where_it_leaves_room(
    seed, strength, intent, limit, radius, off, cut, way, lens, zoom
) -> None:
    edge = {"radius": radius, "centre_x": off, "sides": [{"angle_deg": 90, "distance": 0.42}] if cut else []}
    motion = {"intent": intent, "freedom": ["shift", "turn", "size", "tilt"]}
    edges = {"zoom_limit": limit, "way": way, "zoom": zoom}
    measured = walked(40, seed, strength)
    path = solve_path(measured, treated(edge, motion, edges, lens=lens))
    assert path.zoom.max() <= limit + 1e-9
    at_rest = solve_path(measured, treated(edge, None, {"zoom_limit": 3.0}, lens=lens)).zoom.max()
    if at_rest < 1 + 0.74 * (limit - 1):
        assert overhang(path) <= 0.01
        assert ledger(path).gap_frames == 0
    elif overhang(path) > 0.5:
        assert ledger(path).gap_frames > 0


@pytest.mark.parametrize("projection", ["straight", "cylinder"])
@pytest.mark.parametrize("limit", [1.05, 1.3])
def test_a_turned_camera_shows_nothing_dead(projection: str, limit: float) -> None:
    motion = {"intent": "hold", "freedom": ["shift", "turn", "size", "tilt"]}
    lens = {"family": FISHEYE.family, "coefficients": list(FISHEYE.k)}
    wanted = treated(ROUND, motion, {"zoom_limit": limit}, projection=projection, lens=lens)
    path = solve_path(DINGHY, wanted)
    assert path.zoom.max() <= limit + 1e-9
    assert overhang(path) <= 0.01


def test_too_low_a_limit_shows_a_part_of_it_and_says_so() -> None:
    wanted = treated(ROUND, {"intent": "glide"}, {"zoom_limit": 1.08})
    path = solve_path(WALK, wanted)
    assert path.zoom.max() <= 1.08 + 1e-9
    assert ledger(path).gap_frames == len(path)
    assert any("leaves dead corners in sight" in note for note in outcome_notes(path, wanted))


def test_lending_needs_less_zoom_than_hiding() -> None:
    motion = {"intent": "hold", "freedom": ["shift", "turn"]}
    zooms = {
        way: solve_path(WALK, treated(ROUND, motion, {"way": way, "zoom_limit": 3.0})).zoom.max()
        for way in ("fill", "borrow")
    }
    assert zooms["borrow"] < zooms["fill"] - 0.01


def picture(path: CameraPath, wanted: Treatment, dead: DeadEdge, alpha: bool = False) -> Warped:
    """A grey frame behind the glass, black where no light arrived, rendered."""
    x, y = np.meshgrid(np.arange(HD.width), np.arange(HD.height))
    lit = dead.room((x + 1j * y - HD.centre) / HD.half_diagonal) >= 0
    luma = np.where(lit, 180, 16).astype(np.uint8)
    grey = np.full((HD.height // 2, HD.width // 2), 128, np.uint8)
    frame = Frame(0, Fraction(0), (luma, grey, grey), 8, Tags(1, 1, 1, 1))
    output = output_frame(path, wanted, HD, Fraction(1))
    return Warper(path, HD, output, WrittenChroma("420"), wanted, alpha).warp(frame)


@pytest.mark.parametrize("edge", [ROUND, STRAIGHT])
def test_not_one_dead_pixel_is_left_in_a_fill_render(edge: dict) -> None:
    wanted = treated(edge, {"intent": "glide"}, {"zoom_limit": 1.4})
    assert wanted.optics.falloff is not None
    dead = wanted.optics.falloff.picture_ends
    assert dead is not None
    warped = picture(solve_path(WALK, wanted), wanted, dead)
    assert warped.gap_pixels == 0
    assert warped.planes[0].min() >= 178  # the cubic kernel undershoots beside the edge


def test_left_gaps_are_painted_and_clear() -> None:
    wanted = treated(ROUND, None, {"way": "leave", "gap_colour": "#00ff00"})
    assert wanted.optics.falloff is not None
    dead = wanted.optics.falloff.picture_ends
    assert dead is not None
    warped = picture(solve_path(WALK, wanted), wanted, dead, alpha=True)
    assert warped.alpha is not None
    assert warped.gap_pixels == pytest.approx((warped.alpha < 128).sum(), rel=0.02)
    assert warped.alpha[0, 0] == 0
    assert warped.planes[0][0, 0] not in (16, 180)
    assert warped.planes[0][360, 640] == 180


def test_a_document_says_what_a_dead_edge_is() -> None:
    told = Treatment.from_json({"optics": {"falloff": {"coefficients": [-0.1], "centre_x": 0.02, "dead_radius": 0.9}}})
    assert told.optics.falloff is not None
    assert told.optics.falloff.picture_ends == DeadEdge(0.9, 0.02 + 0j)
    square = treated(STRAIGHT).optics.falloff
    assert square is not None
    assert square.dead_radius == pytest.approx(0.75)  # the largest circle that fits
    assert Treatment.from_json(treated(ROUND).to_json()) == treated(ROUND)
    for wrong in ({}, {"radius": 0.1}, {"radius": 0.5, "softness": 2}, {"sides": [{"angle_deg": 0, "distance": 9}]}):
        with pytest.raises(TreatmentError):
            treated(wrong)


def test_nothing_changes_for_glass_without_a_dead_edge() -> None:
    motion = {"intent": "glide"}
    plain, with_none = (
        solve_path(WALK, replace_falloff(treated(None, motion), falloff))
        for falloff in (None, {"coefficients": [-0.4], "dead_edge": None})
    )
    assert np.array_equal(plain.matrices(), with_none.matrices())


def replace_falloff(wanted: Treatment, falloff: dict | None) -> Treatment:
    document = wanted.to_json()
    document["optics"]["falloff"] = falloff
    return Treatment.from_json(document)


def test_shots_have_middles_of_their_own() -> None:
    cut = np.zeros(len(WALK) - 1, bool)
    cut[44] = True
    path = solve_path(replace(WALK, cut=cut), treated(ROUND, {"intent": "glide"}, {"zoom_limit": 1.5}))
    middles = np.unique(np.asarray(path.middle))
    assert len(middles) == 2
    assert overhang(path) <= 0.01
