"""A rolling shutter undone: parts of the picture stand still to each other, and the whole as wished, by the truth."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache

import cv2
import numpy as np
import pytest
from glass import rays_of, seen_at
from hypothesis import given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from rows import COUNT, POINTS, SIZE, Motion, placed, seen
from scipy.spatial.transform import Rotation

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.finding.readout import find_readout
from keen_horizon.core.geometry.similarity import Similarities, as_complex
from keen_horizon.core.glass.shutter import NODES, Readout, RowMotion
from keen_horizon.core.lens.lens import Lens, fisheye_of
from keen_horizon.core.mapping.frame_map import PlaneGrid
from keen_horizon.core.mapping.gaps import border_overhang
from keen_horizon.core.mapping.staged import frame_map, lending_map
from keen_horizon.core.motion.behind_lens import straightened
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.notes import outcome_notes, solution_notes
from keen_horizon.core.path.seen_through import seen_through
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.path.tradeoff import trade_off
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.camera import band_noise
from keen_horizon.simulator.plane import hand_shake, read_row_by_row

Camera = Callable[[np.ndarray], Rotation]

PLACES = np.stack([a.ravel() for a in np.meshgrid(np.linspace(60, 579, 9), np.linspace(40, 319, 7))], -1)


def treatment(shutter: object, motion: dict | None = None, edges: dict | None = None, **optics: object) -> Treatment:
    wanted = {"intent": "hold", "rolling_shutter": shutter, **(motion or {})}
    return Treatment.from_json({"optics": optics, "motion": wanted, "edges": {"zoom_limit": 1.5, **(edges or {})}})


def strayed(path: CameraPath, world: np.ndarray) -> tuple[float, float]:
    """Of places of the output in the world (N, P), px: how far they move against each other, and all of them."""
    offsets = as_complex(PLACES) - as_complex(PLACES).mean()
    apart = world - world.mean(1, keepdims=True)
    turned = (np.conj(offsets) * apart).sum(1) / (np.abs(offsets) ** 2).sum()
    parts = apart - turned[:, None] * offsets
    whole = world.mean(1) - world.mean()
    return float(np.sqrt((np.abs(parts) ** 2).mean())), float(np.sqrt((np.abs(whole) ** 2).mean()))


def shown(path: CameraPath, motion: Motion, readout: float, turns: int = 0) -> np.ndarray:
    """Where in the world the output's places lie, frame by frame."""
    sampling = frame_map(path)
    places = [as_complex(sampling.places(frame, PLACES)) for frame in range(len(path))]
    return np.stack([placed(motion, frame, place, readout, turns) for frame, place in enumerate(places)])


@lru_cache(maxsize=1)
def filmed() -> tuple[Motion, Measurement]:
    """A hand's film whose rows are read over 0.7 of a frame, followed as any clip is."""
    motion = hand_shake(70, SIZE, 6.0, 11, vibration_px=1.0)
    tracker = MotionTracker.start(SIZE)
    for number, picture in enumerate(read_row_by_row(motion, 70, SIZE, 0.7, 1.5, 11)):
        tracker.add(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), number / 25)
    measurement = tracker.finish(0)
    return motion, replace(measurement, readout=find_readout(measurement))


@pytest.mark.parametrize("shutter", ["measured", 0.7])
def test_a_film_stands_still_in_all_its_parts(shutter: object) -> None:
    motion, measurement = filmed()
    left = {s: strayed(path, shown(path, motion, 0.7)) for s in ("off", shutter)
            for path in [solve_path(measurement, treatment(s))]}  # fmt: skip
    print(f"parts {left['off'][0]:.3f} -> {left[shutter][0]:.3f} px, the whole {left[shutter][1]:.3f} px")
    assert left["off"][0] > 0.25
    assert left[shutter][0] < left["off"][0] / 10
    assert left[shutter][1] < 0.1


def test_the_motion_is_that_of_the_middle_rows() -> None:
    motion, measurement = filmed()
    through = seen_through(measurement, treatment("measured"))
    found = straightened(measurement, through.stage).pairs
    poses = motion(np.arange(70.0))
    wanted = poses[1:].inverse() @ poses[:-1]
    off = np.abs(found.apply(as_complex(PLACES)) - wanted.apply(as_complex(PLACES)))
    assert np.median(off) < 0.15


def test_off_is_as_if_nothing_were_known_and_half_a_readout_undoes_half() -> None:
    motion, measurement = filmed()
    off, unknown = (
        solve_path(m, treatment("off")) for m in (measurement, replace(measurement, readout=Readout(0.7, 1.0, False)))
    )
    assert np.abs(off.matrices() - unknown.matrices()).max() < 1e-12
    assert off.stage is None
    half = strayed(off, shown(solve_path(measurement, treatment(0.35)), motion, 0.7))[0]
    assert 0.3 < half / strayed(off, shown(off, motion, 0.7))[0] < 0.7


@pytest.mark.parametrize(
    ("readout", "turns", "seed"), [(0.8, 0, 1), (-0.6, 0, 2), (0.5, 1, 3), (0.9, 2, 4), (-0.4, 3, 5)]
)
@pytest.mark.parametrize("intent", ["hold", "glide", None])
def test_every_direction_of_reading_is_undone(readout: float, turns: int, seed: int, intent: str | None) -> None:
    motion = hand_shake(COUNT, SIZE, 6.0, seed, vibration_px=1.0)
    measurement = replace(seen(motion, readout, 0.05, turns, seed), readout=Readout(readout, 0.001, True, turns))
    parts = {}
    for shutter in ("off", "measured"):
        path = solve_path(measurement, treatment(shutter, {"intent": intent}))
        still = shown(path, motion, readout, turns)
        parts[shutter] = strayed(path, still / path.correction.z[:, None])[0] if intent else _bent(still)
        assert path.gap_areas.max() == 0
        assert max(border_overhang(frame_map(path), frame) for frame in range(COUNT)) <= 0.01
    assert parts["measured"] < parts["off"] / 8


def _bent(world: np.ndarray) -> float:
    """How far places of each frame are from any similarity of the output's, px RMS."""
    offsets = as_complex(PLACES) - as_complex(PLACES).mean()
    apart = world - world.mean(1, keepdims=True)
    turned = (np.conj(offsets) * apart).sum(1) / (np.abs(offsets) ** 2).sum()
    return float(np.sqrt((np.abs(apart - turned[:, None] * offsets) ** 2).mean()))


@hypothesis_settings(max_examples=60)
@given(
    st.integers(0, 3), st.one_of(st.floats(-1.2, 1.2), st.just("measured")), st.floats(1.0, 1.4),
    st.sampled_from(["glide", "hold", "level", None]), st.sampled_from(["fill", "trim", "borrow"]),
    st.sampled_from(["one", "breathing"]),
    st.sampled_from([None, ("division", -0.2), ("equidistant", 1.0)]),
    st.integers(0, 3),
)  # fmt: skip
def test_no_shutter_opens_a_gap_or_breaks_the_limit(seed, shutter, limit, intent, way, zoom, lens, turns) -> None:
    motion, edges = {"intent": intent}, {"zoom_limit": limit, "way": way, "zoom": zoom}
    wanted = treatment(shutter, motion, edges, lens=lens and {"family": lens[0], "coefficients": [lens[1]]})
    measurement = _shaken(seed)
    path = solve_path(replace(measurement, readout=replace(measurement.readout, turns=turns)), wanted)
    assert path.zoom.max() <= limit + 1e-9
    if path.borrowed is None:
        sampling = frame_map(path)
        assert max(border_overhang(sampling, frame) for frame in range(len(path))) <= 0.01


@lru_cache(maxsize=8)
def _shaken(seed: int) -> Measurement:
    motion = hand_shake(COUNT, SIZE, 3.0 + 6 * seed, seed, vibration_px=1.0 + seed)
    return replace(seen(motion, 0.8, 0.1, 0, seed), readout=Readout(0.8, 0.001, True))


def test_where_a_limit_leaves_no_room_rows_are_undone_in_part_and_that_is_told() -> None:
    measurement = _shaken(3)
    paths = [solve_path(measurement, treatment("measured", edges={"zoom_limit": limit})) for limit in (1.5, 1.05, 1.0)]
    taken = [1.0 if path.stage.rows is not None else 0.0 for path in paths[:2]]
    assert taken == [1.0, 1.0]
    assert paths[0].stage.rows.taken.min() == 1
    assert 0 < paths[1].stage.rows.taken.min() < 1
    assert paths[2].stage.rows is None
    told = outcome_notes(paths[1], treatment("measured"))
    assert any("put right in part" in note for note in told)
    assert not any("put right in part" in note for note in outcome_notes(paths[0], treatment("measured")))


@pytest.mark.parametrize("lens", [None, {"family": "equisolid", "coefficients": [0.8]}])
@pytest.mark.parametrize("intent", ["hold", "glide"])
def test_more_zoom_never_leaves_more_shake_where_frames_lend(intent: str, lens: dict | None) -> None:
    """The limit's room is shared between rows and path, however little there is."""
    optics = {"lens": lens} if lens else {}
    wanted = treatment(0.9, {"intent": intent, "freedom": ["shift", "turn"]}, {"way": "borrow"}, **optics)
    curve = trade_off(filmed()[1], wanted)
    assert len(curve) > 6
    assert all(point.zoom <= point.limit * (1 + 1e-9) for point in curve)
    for before, later in itertools.pairwise(curve):
        assert before.zoom <= later.zoom + 1e-5
        assert later.shake_percent <= before.shake_percent * 1.02 + 1e-9
    little = next(point for point in curve if point.limit > 1.003)
    assert little.shake_percent < 0.8 * curve[0].shake_percent


def test_frames_lend_where_their_own_rows_lay() -> None:
    motion, measurement = filmed()
    path = solve_path(measurement, treatment("measured", edges={"way": "borrow", "zoom_limit": 1.1}))
    assert path.borrowed is not None
    for offset in (-4, 3):
        mine, theirs = frame_map(path), lending_map(path, offset)
        for frame in (20, 40):
            here, there = (as_complex(m.places(frame, PLACES)) for m in (mine, theirs))
            apart = placed(motion, frame, here, 0.7, 0) - placed(motion, frame + offset, there, 0.7, 0)
            assert np.abs(apart).max() < 0.3


def test_a_turning_camera_stands_still_behind_its_lens() -> None:
    """Rays of a fisheye of 130 degrees, each row seen when it was read."""
    lens, readout = fisheye_of("equidistant", 130), 0.6
    random, moments = np.random.default_rng(4), np.arange(-2, COUNT + 2, 1 / 16)
    angles = [band_noise(random, moments / 30, 0.4, 7.0, 0.5) for _ in range(3)]

    def camera(times: np.ndarray) -> Rotation:
        return Rotation.from_euler("YXZ", np.column_stack([np.interp(times, moments, a) for a in angles]), degrees=True)

    measurement = replace(_through(lens, camera, readout), readout=Readout(readout, 0.001, True))
    optics = {"lens": {"family": "equidistant", "coefficients": list(lens.k)}}
    left = {}
    for shutter in ("off", "measured"):
        path = solve_path(measurement, treatment(shutter, **optics))
        assert path.region is not None
        left[shutter] = _turned_apart(path, lens, camera, readout)
        assert path.zoom.max() <= 1.5
        assert max(border_overhang(frame_map(path), frame) for frame in range(COUNT)) <= 0.01
    print(f"parts behind a lens {left['off']:.3f} -> {left['measured']:.3f} px")
    assert left["measured"] < left["off"] / 5


def _shares(points: np.ndarray) -> np.ndarray:
    return (points[:, 1] + 0.5) / SIZE.height - 0.5


def _through(lens: Lens, camera: Camera, readout: float) -> Measurement:
    """Points of consecutive frames behind a lens."""
    random = np.random.default_rng(8)
    base = seen(lambda times: Similarities.identity(len(times)), 0.0)
    sources, targets = [], []
    for frame in range(COUNT - 1):
        source = np.column_stack([random.uniform(8, side - 8, POINTS) for side in (SIZE.width, SIZE.height)])
        world = camera(frame + readout * _shares(source)).apply(rays_of(lens, source, SIZE))
        target = source
        for _ in range(6):
            target = seen_at(lens, camera(frame + 1 + readout * _shares(target)).inv().apply(world), SIZE)
        sources.append(source)
        targets.append(target + random.normal(0, 0.03, target.shape))
    evidence = replace(base.evidence, points=np.concatenate(sources).astype(np.float32),
                       moved=np.concatenate(targets).astype(np.float32))  # fmt: skip
    return replace(base, evidence=evidence)


def _turned_apart(path: CameraPath, lens: Lens, camera: Camera, readout: float) -> float:
    """How far what the output shows moves against the rest of it from frame to frame, px RMS in the middle."""
    sampling, rays = frame_map(path), []
    for frame in range(len(path)):
        source = sampling.places(frame, PLACES)
        rays.append(camera(frame + readout * _shares(source)).apply(rays_of(lens, source, SIZE)))
    apart = []
    for one, other in itertools.pairwise(rays):
        between, _ = Rotation.align_vectors(other, one)
        apart.append(np.linalg.norm(between.apply(one) - other, axis=1))
    return float(np.sqrt((np.array(apart) ** 2).mean()) * SIZE.half_diagonal / np.sqrt(lens.k[0]))


def test_the_mesh_that_renders_is_the_map_of_the_rows_too() -> None:
    path = solve_path(filmed()[1], treatment("measured"))
    sampling, grid = frame_map(path), PlaneGrid((SIZE.height, SIZE.width), np.eye(3))
    x, y = sampling.plane_maps(30, grid, grid)
    exact = sampling.places(30, np.rint(PLACES))
    column, row = np.rint(PLACES).astype(int).T
    assert np.abs(np.column_stack([x[row, column], y[row, column]]) - exact).max() < 0.02


@hypothesis_settings(max_examples=40)
@given(st.integers(0, 10**6), st.integers(0, 3))
def test_reading_and_unreading_are_each_other_s_reverse(seed: int, turns: int) -> None:
    random = np.random.default_rng(seed)
    rows = RowMotion(random.normal(0, 5, (1, NODES, 6)), SIZE, turns, np.ones(1))
    points = random.uniform(-2000, 2000, (50, 2))
    shares = random.uniform(-0.5, 0.5, 50)
    assert rows.unread(rows.read(points, shares), shares) == pytest.approx(points, abs=1e-6)


def test_documents_say_how_and_older_ones_stay_as_they_were() -> None:
    assert Treatment().motion.rolling_shutter == "measured"
    assert Treatment.from_json({"motion": {"rolling_shutter": -0.35}}).motion.rolling_shutter == -0.35
    for motion in ({"rolling_shutter": "off"}, {"intent": "hold"}, None):
        former = {"schema": "keen-horizon/treatment/1"} | ({} if motion is None else {"motion": motion})
        assert Treatment.from_json(former).motion.rolling_shutter == "off"
    for wrong in (1.3, "on", None):
        with pytest.raises(TreatmentError, match="rolling_shutter"):
            Treatment.from_json({"motion": {"rolling_shutter": wrong}})


def test_what_is_done_is_told() -> None:
    measurement = filmed()[1]
    told = [" ".join(solution_notes(measurement, treatment(shutter))) for shutter in ("measured", 0.5, "off")]
    assert "The rolling shutter is undone: 0.70 of a frame, the first row first, as measured." in told[0]
    assert "0.50 of a frame, the first row first, set by hand" in told[1]
    assert "undone" not in told[2]
    assert "leans and wobbles" in told[2]
