"""What the measurement believes: the background by itself, another layer when told, areas that are ignored."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from staging import SIZE, cloth, measured, on_ground, outline, overlap, passing, true_pairs
from truth import corner_errors, rms

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.geometry.similarity import as_points
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.belief.areas import area_over_time
from keen_horizon.core.motion.belief.doubts import asked_about, confidence_of, doubts
from keen_horizon.core.motion.belief.labels import BACKGROUND
from keen_horizon.core.motion.belief.subjects import find_subjects
from keen_horizon.core.motion.belief.told import motion_json
from keen_horizon.core.motion.checkpoint import restored_tracker, stored_tracker
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.tracking import FINER, USUAL, Detail
from keen_horizon.core.starting_points import for_another_clip
from keen_horizon.core.treatment.believing import Area, AreaKey, Belief, StandsStill
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.staged import Sheet, laid_out, shape, staged


@lru_cache(maxsize=2)
def film(held: bool = False) -> tuple[list[Sheet], Measurement]:
    """A staged film and its measurement; held subjects stand before a soft town."""
    sheets = passing(held=held, soft=3.0 if held else 0.0)
    return sheets, measured(sheets)


def off(found: Measurement, sheet: Sheet) -> float:
    return float(rms(corner_errors(found.pairs, true_pairs(sheet), SIZE)))


def around(sheet: Sheet, frame: int, **more: object) -> Area:
    """An area drawn around a thing on a frame."""
    polygon = tuple((float(x), float(y)) for x, y in outline(sheet, frame))
    return Area(name="cloth", keys=(AreaKey(frame=frame, polygon=polygon),), **more)  # type: ignore[arg-type]


@pytest.mark.parametrize("held", [False, True])
def test_the_background_is_believed_behind_what_has_more_to_follow(held: bool) -> None:
    sheets, found = film(held)
    errors = corner_errors(found.pairs, true_pairs(sheets[0]), SIZE)
    assert errors.max() < 0.5
    assert rms(errors) < 0.1
    assert found.confidence is not None
    assert np.median(found.confidence) > 0.9


def test_points_live_on_and_are_told_apart() -> None:
    sheets, found = film()
    evidence = found.evidence
    lives = np.bincount(evidence.identity)
    assert np.quantile(lives[lives > 0], 0.9) > 20
    middle = slice(int(evidence.starts[45]), int(evidence.starts[46]))
    inside = np.array([overlap_point(point, outline(sheets[1], 45)) for point in evidence.points[middle]])
    named = evidence.layer[middle]
    assert (named[inside] > BACKGROUND).mean() > 0.8
    assert (named[~inside] == BACKGROUND).mean() > 0.8


def overlap_point(point: np.ndarray, polygon: np.ndarray) -> bool:
    """Whether a point is well within the square of a polygon's extent."""
    low, high = polygon.min(0) + 12, polygon.max(0) - 12
    return bool((point > low).all() and (point < high).all())


def test_what_moves_is_suggested_where_it_is() -> None:
    sheets, found = film()
    subject = find_subjects(found)[0]
    shared = [
        overlap(as_points(one.polygon), outline(sheets[1], one.frame)) for one in subject.seen if 20 <= one.frame <= 60
    ]
    assert np.median(shared) > 0.7
    document = motion_json(found, 1.0)
    assert document["subjects"][0]["keys"][0]["frame"] == subject.seen[0].frame
    assert all(0 <= pair["confidence"] <= 1 for pair in document["pairs"])


def test_a_plain_film_suggests_nothing_and_is_sure() -> None:
    sheets = passing(40)[:1]
    found = measured(sheets)
    assert find_subjects(found) == ()
    assert confidence_of(found) == 1.0
    assert doubts(found) == []
    assert asked_about(found) is None


def test_where_two_may_stand_still_an_editor_is_asked_and_answers() -> None:
    sheets = on_ground()
    found = measured(sheets)
    assert off(found, sheets[0]) < 0.1
    asked = asked_about(found)
    assert asked is not None
    for choice, sheet in zip(asked, sheets, strict=True):
        still = StandsStill(frame=choice.frame, x=choice.point.real, y=choice.point.imag)
        answered = believed_as(found, Belief(layer=still))
        assert off(answered, sheet) < 0.15
        assert asked_about(answered) is None


def test_an_area_follows_what_is_in_it_both_ways() -> None:
    sheets, found = film()
    over = area_over_time(around(sheets[1], 45, follows=True), found)
    shared = [overlap(over.on(frame), outline(sheets[1], frame)) for frame in range(15, 75)]
    assert min(shared) > 0.9
    still = area_over_time(around(sheets[1], 45), found)
    assert np.array_equal(still.on(0), still.on(80))


def test_an_area_goes_evenly_between_its_keys_and_is_there_in_its_span() -> None:
    _, found = film()
    square = ((0.0, 0.0), (100.0, 0.0), (100.0, 100.0), (0.0, 100.0))
    moved = tuple((x + 40.0, y) for x, y in square)
    keys = AreaKey(frame=10, polygon=square), AreaKey(frame=30, polygon=moved)
    over = area_over_time(Area(name="a", keys=keys, span=(5, 40)), found)
    assert over.on(20)[0] == pytest.approx((20.0, 0.0))
    assert over.there[5:41].all()
    assert not over.there[:5].any()
    unlike = area_over_time(Area(name="a", keys=(keys[0], AreaKey(frame=30, polygon=moved[:3]))), found)
    assert unlike.on(20).shape == (32, 2)


def test_ignoring_areas_and_steadying_the_subject() -> None:
    sheets, found = film()
    ignored = believed_as(found, Belief(ignore=(around(sheets[1], 45, follows=True),)))
    assert off(ignored, sheets[0]) < 0.1
    only = believed_as(found, Belief(ignore=(around(sheets[1], 45, follows=True, only=True),)))
    within = corner_errors(only.pairs, true_pairs(sheets[1]), SIZE)[20:60]
    assert np.median(within) < 0.4
    x, y = outline(sheets[1], 45).mean(0)
    chosen = believed_as(found, Belief(layer=StandsStill(frame=45, x=float(x), y=float(y))))
    assert np.median(corner_errors(chosen.pairs, true_pairs(sheets[1]), SIZE)[20:60]) < 0.4
    assert believed_as(found, Belief()) is found


def test_what_is_known_survives_saving_and_parting(tmp_path: Path) -> None:
    _, found = film()
    found.save(tmp_path / "m.npz")
    back = Measurement.load(tmp_path / "m.npz")
    assert np.array_equal(back.evidence.identity, found.evidence.identity)
    assert np.array_equal(back.evidence.layer, found.evidence.layer)
    assert back.confidence is not None
    part = back.part(20, 50)
    assert part.confidence is not None
    assert len(part.confidence) == 30
    assert len(part.evidence.identity) == part.evidence.starts[-1]
    old = replace(back, confidence=None, evidence=replace(back.evidence, identity=back.evidence.identity[:0]))
    assert believed_as(old, Belief(layer=StandsStill(frame=1, x=1, y=1))) is old
    assert confidence_of(old) is None


@pytest.mark.parametrize("detail", [USUAL, FINER], ids=["usual", "finer"])
def test_a_run_goes_on_in_another_process_with_the_same_points(detail: Detail) -> None:
    frames = [frame for frame, _ in staged(passing(24), SIZE)]
    whole, half = MotionTracker.start(SIZE, detail), MotionTracker.start(SIZE, detail)
    for number, frame in enumerate(frames):
        whole.add(frame, number / 30)
        half.add(frame, number / 30)
        if number == 11:
            half = restored_tracker(stored_tracker(half))
    assert half.detail == detail
    one, other = whole.finish(0), half.finish(0)
    assert np.array_equal(one.evidence.identity, other.evidence.identity)
    assert np.array_equal(one.poses.z, other.poses.z)


@settings(max_examples=10)
@given(
    st.lists(st.tuples(st.floats(-2000, 4000), st.floats(-2000, 4000)), min_size=3, max_size=12),
    st.integers(0, 400), st.booleans(), st.booleans(),
)  # fmt: skip
def test_no_area_breaks_the_motion(polygon: list[tuple[float, float]], frame: int, follows: bool, only: bool) -> None:
    _, found = film()
    area = Area(name="any", follows=follows, only=only, keys=(AreaKey(frame=frame, polygon=tuple(polygon)),))
    solved = believed_as(found.part(0, 12), Belief(ignore=(area,)))
    assert np.isfinite(solved.poses.z).all()
    assert np.isfinite(solved.pairs.t).all()


def test_documents_that_make_no_sense_are_refused_by_name() -> None:
    def motion(**area: object) -> dict[str, object]:
        plain = {"name": "a", "keys": [{"frame": 0, "polygon": [[0, 0], [9, 0], [9, 9]]}]}
        return {"motion": {"ignore": [plain | area]}}

    assert Treatment.from_json(motion()).motion.ignore[0].stands_fixed
    key = {"frame": 0, "polygon": [[0, 0], [9, 0], [9, 9]]}
    for wrong in (
        {"keys": []},
        {"keys": [key, key]},
        {"span": [9, 3]},
        {"name": ""},
        {"keys": [{"frame": 0, "polygon": [[0, 0]]}]},
    ):
        with pytest.raises(TreatmentError, match=r"motion\.ignore\.0"):
            Treatment.from_json(motion(**wrong))


def test_a_bonnet_goes_along_to_another_clip_and_a_walker_does_not() -> None:
    key = AreaKey(frame=0, polygon=((0, 0), (9, 0), (9, 9)))
    mine = Treatment.from_json({})
    areas = (Area(name="bonnet", keys=(key,)), Area(name="walker", follows=True, keys=(key,)))
    mine = mine.model_copy(update={"motion": mine.motion.model_copy(update={"ignore": areas})})
    carried = for_another_clip(mine, Treatment())
    assert [area.name for area in carried.motion.ignore] == ["bonnet"]
    assert for_another_clip(mine, Treatment(), alike=False).motion.ignore == ()


def test_an_area_that_follows_is_not_taken_along_by_what_passes_in_front() -> None:
    """A poster that turns and comes nearer, and a cloth that crosses it and covers half of it for a while."""
    count = 90
    sheets = passing(count, wide=150)
    turning = np.exp(np.linspace(0, 0.2, count) + 0.25j * np.sin(np.arange(count) / 20))
    poster = cloth(260, 260, seed=8)
    behind = sheets[0].frame_from_sheet
    shift = behind[:, 0, 2] + 1j * behind[:, 1, 2]
    middle = 330 + 190j + (shift - shift.mean()) + 0.4 * np.arange(count)
    thing = Sheet.of(poster, laid_out(middle, turning, poster), shape(poster))
    found = measured([sheets[0], thing, sheets[1]])
    for frame in (0, count - 1):
        over = area_over_time(around(thing, frame, follows=True), found)
        worst = min(overlap(over.on(place), outline(thing, place)) for place in range(count))
        assert worst > 0.9, frame
