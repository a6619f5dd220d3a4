"""Areas of a sphere's picture: what is in them is not believed, they follow it; and what is carried is suggested."""

from __future__ import annotations

from functools import cache

import cv2
import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from spheres import SMALL, AllAround, Walk, cube, errors, going_round, gone_by, measured, rocking

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.belief.areas import area_over_time
from keen_horizon.core.motion.matched import fill_area
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.subjects import carried_along
from keen_horizon.core.path.sphere.figures import sphere_notes
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.treatment.believing import Area, AreaKey, Belief
from keen_horizon.core.treatment.document import Treatment

FRAMES, DRAWN = 20, 5
SPHERE = Sphere(SMALL)
COLUMNS, ROWS = np.meshgrid(np.arange(SMALL.width), np.arange(SMALL.height))
RAYS = SPHERE.rays(np.stack([COLUMNS, ROWS], -1).astype(float))
BELOW = RAYS[..., 1] > np.sin(np.radians(60))
ROOM = np.cos(((np.arange(SMALL.height) + 0.5) / SMALL.height - 0.5) * np.pi)[:, None]  # of a pixel, by its row

Masks = list[np.ndarray]


@cache
def walked_by(walk: Walk, radius_deg: float, growth: float = 0.004) -> tuple[Measurement, Masks]:
    """A film, measured, in which something round goes by, and where that is seen; the bottom is carried along."""
    world, other = cube(5), cube(9)
    film = gone_by(world, other, walk, radius_deg=radius_deg, growth=growth, stood=rocking(FRAMES))
    pictures, masks = zip(*film, strict=True)
    decked = (np.where(BELOW[..., None], other.seen(RAYS), picture).astype(np.uint8) for picture in pictures)
    return measured(decked), [mask & ~BELOW for mask in masks]


def outlined(mask: np.ndarray, frame: int, **how: object) -> Area:
    """An area drawn around a mask's largest part."""
    outlines, _ = cv2.findContours(mask.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
    polygon = max(outlines, key=cv2.contourArea)[:, 0].astype(float).tolist()
    return Area(name="walker", keys=(AreaKey(frame=frame, polygon=polygon),), **how)  # type: ignore[arg-type]


def overlap(polygon: np.ndarray, mask: np.ndarray) -> float:
    """Of an area and where something is seen, the common share of both, as all around has room."""
    drawn = np.zeros(mask.shape, np.uint8)
    fill_area(drawn, polygon, around=True)
    return float((ROOM * (mask & (drawn > 0))).sum() / (ROOM * (mask | (drawn > 0))).sum())


WALKS = {
    "aside": lambda n: Rotation.from_euler("YXZ", [60 + 1.6 * n, 5, 0.3 * n], degrees=True),
    "across the sides": lambda n: Rotation.from_euler("YXZ", [150 + 1.6 * n, 0, 0], degrees=True),
    "over the pole": lambda n: Rotation.from_euler("YXZ", [30, 45 + 1.6 * n, 0], degrees=True),
}


@pytest.mark.parametrize("walk", WALKS.values(), ids=WALKS)
def test_an_area_follows_what_is_in_it(walk: Walk) -> None:
    measurement, masks = walked_by(walk, 20)
    area = area_over_time(outlined(masks[DRAWN], DRAWN, follows=True), measurement)
    overlaps = [overlap(area.on(place), masks[place]) for place in range(FRAMES)]
    assert min(overlaps) >= 0.85
    assert np.median(overlaps) >= 0.93


def test_what_fills_a_third_of_all_around_does_not_take_the_camera_along() -> None:
    measurement, _ = walked_by(going_round(0.0, 0.4), 66, growth=0.0)
    pair, absolute = errors(measurement, rocking(FRAMES))
    assert pair < 0.01
    assert absolute < 0.01


def test_what_is_ignored_takes_no_part() -> None:
    """A crowd that fills more of all around than the world is taken for it; ignored, the world is believed."""
    measurement, masks = walked_by(going_round(0.0, 2.0), 95, growth=0.0)
    area = outlined(masks[DRAWN], DRAWN, follows=True)
    believed = believed_as(measurement, Belief(ignore=(area,)))
    before, after = errors(measurement, rocking(FRAMES))[0], errors(believed, rocking(FRAMES))[0]
    assert before > 1.0
    assert after < 0.01
    assert len(believed.evidence.points) < 0.6 * len(measurement.evidence.points)
    assert believed.evidence.starts[-1] == len(believed.evidence.points)
    assert believed_as(measurement, Belief()) is measurement


def area_on(frame: int, polygon: list[list[float]]) -> dict:
    return {"name": "area", "keys": [{"frame": frame, "polygon": polygon}]}


@pytest.mark.parametrize("follows", [False, True])
def test_whatever_is_ignored_a_path_is_found(follows: bool) -> None:
    measurement, _ = walked_by(WALKS["aside"], 20)
    width, height = SMALL.width, SMALL.height
    everything = [[0, 0], [width, 0], [width, height], [0, height]]
    for polygon in (everything, [[5, 5], [5, 5], [5, 5]], [[-1e5, -1e5], [1e5, -1e5], [1e5, 1e5]]):
        for only in (False, True):
            ignored = area_on(2, polygon) | {"follows": follows, "only": only}
            treatment = Treatment.from_json({"motion": {"intent": "glide", "ignore": [ignored]}})
            path = solve_sphere(measurement, treatment)
            assert np.isfinite(path.steadied.as_quat()).all()
    bare = Treatment.from_json({"motion": {"ignore": [area_on(2, everything)]}})
    assert (
        "Nothing could be followed in any frame" in sphere_notes(measurement, bare, solve_sphere(measurement, bare))[0]
    )


def test_only_what_is_in_an_area_counts() -> None:
    measurement, masks = walked_by(going_round(40.0, 2.0), 50, growth=0.0)
    only = Treatment(motion={"intent": "hold", "ignore": [outlined(masks[DRAWN], DRAWN, follows=True, only=True)]})
    path = solve_sphere(measurement, only)
    stood = rocking(FRAMES)
    walker = Rotation.concatenate([going_round(40.0, 2.0)(number) for number in range(FRAMES)])
    by_walker = (walker[0].inv() * stood[0]).inv() * (walker.inv() * stood)  # where the camera stands, seen from it
    off = np.degrees((by_walker.inv() * (path.measured[0].inv() * path.measured)).magnitude())
    assert off.max() < 0.15


def test_what_the_camera_carries_is_suggested_and_nothing_else() -> None:
    measurement, _ = walked_by(WALKS["aside"], 20)
    (below,) = carried_along(measurement)
    assert overlap(below.polygon, BELOW) >= 0.7
    assert below.confidence > 0.6
    clear = measured([cube(5).seen(stood.apply(RAYS.reshape(-1, 3)).reshape(RAYS.shape)) for stood in rocking(12)])
    assert carried_along(clear) == ()


def test_edges_in_an_area_do_not_tell_where_up_is() -> None:
    picture = AllAround(np.where(COLUMNS[..., None] // 64 % 2 == 0, 60, 180).astype(np.uint8).repeat(3, -1))
    measurement = measured([picture.seen(stood.apply(RAYS.reshape(-1, 3)).reshape(RAYS.shape)) for stood in rocking(6)])
    half = [(-0.5, -0.5), (SMALL.width / 2, -0.5), (SMALL.width / 2, SMALL.height), (-0.5, SMALL.height)]
    area = Area(name="left", keys=(AreaKey(frame=0, polygon=half),))  # type: ignore[arg-type]
    kept = believed_as(measurement, Belief(ignore=(area,))).uprights
    assert 0 < len(kept.frames) < len(measurement.uprights.frames)
    assert (SPHERE.points(kept.rays)[:, 0] > SMALL.width / 2 - 2).all()
