"""A flat thing followed by four corners, behind a wide lens, against where it truly was."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.core.errors import RangeError, TreatmentError
from keen_horizon.core.geometry.picture import Size, transform
from keen_horizon.core.lens.lens import Lens, fisheye_of
from keen_horizon.core.media.probe import probe
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.flat_things import flat_thing_csv, flat_thing_document, follow_clip
from keen_horizon.simulator.film import write_pictures

SIZE = Size(640, 360)
LENS = fisheye_of("equidistant", 110)
FRAMES = 60


def poster(random: np.random.Generator) -> np.ndarray:
    rough = cv2.resize(random.integers(40, 220, (9, 12), np.uint8), (240, 180), interpolation=cv2.INTER_CUBIC)
    fine = cv2.GaussianBlur(random.integers(0, 255, (180, 240), np.uint8), (0, 0), 1.5)
    return cv2.addWeighted(rough, 0.6, fine, 0.4, 0)


def corners_at(frame: int) -> np.ndarray:
    """Where the poster's corners are in the straightened picture: it turns, nears and leans."""
    share = frame / FRAMES
    sway = np.array([12 * np.sin(frame / 3.1), 7 * np.cos(frame / 2.3)])
    base = np.array([[215.0, 110], [400, 105], [405, 250], [210, 245]]) + sway + (40 * share, -15 * share)
    lean = np.array([[0, 0], [-14 * share, 12 * share], [-14 * share, -10 * share], [0, 0]])
    return (base + lean - (320, 180)) * (1 + 0.18 * share) + (320, 180)


def filmed(lens: Lens, hidden: range = range(0)) -> list[np.ndarray]:
    random = np.random.default_rng(3)
    picture, around = poster(random), poster(random)
    x, y = np.meshgrid(np.arange(SIZE.width, dtype=float), np.arange(SIZE.height, dtype=float))
    straight = lens.straighten(np.stack([x.ravel(), y.ravel()], -1), SIZE)
    films = []
    for frame in range(FRAMES):
        sheet = np.array([[-0.5, -0.5], [239.5, -0.5], [239.5, 179.5], [-0.5, 179.5]], np.float32)
        into = cv2.getPerspectiveTransform(corners_at(frame).astype(np.float32), sheet)
        there = transform(into, straight).reshape(SIZE.height, SIZE.width, 2).astype(np.float32)
        back = cv2.remap(around, ((straight - (100, 60)) / 3).reshape(there.shape).astype(np.float32), None, 1)
        seen = cv2.remap(picture, there, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
        inside = ((there >= -0.5) & (there <= (239.5, 179.5))).all(-1)
        grey = np.where(inside & (frame not in hidden), seen, back // 2)
        noisy = grey + random.normal(0, 2, grey.shape)
        films.append(np.clip(noisy, 0, 255).astype(np.uint8)[..., None].repeat(3, -1))
    return films


def treatment(lens: Lens, *frames: int) -> Treatment:
    marks = [{"frame": f, "corners": lens.bend(corners_at(f), SIZE).round(4).tolist()} for f in frames]
    return Treatment.from_json(
        {"optics": {"lens": {"family": lens.family, "coefficients": list(lens.k)}, "flat": {"marks": marks}}}
    )


def away(corners: np.ndarray, lens: Lens) -> np.ndarray:
    """How far each frame's corners (N, 4) lie from the truth, pixels of the source."""
    truth = np.array([lens.bend(corners_at(f), SIZE) for f in range(len(corners))])
    return np.abs(corners - (truth[..., 0] + 1j * truth[..., 1])).max(1)


@pytest.mark.parametrize("hidden", [range(0), range(30, 36)])
def test_corners_stay_on_the_flat_thing(tmp_path: Path, hidden: range) -> None:
    clip = tmp_path / "poster.mp4"
    write_pictures(iter(filmed(LENS, hidden)), SIZE, 30, clip, quality=12)
    info, times = probe(clip)
    asked = treatment(LENS, 20) if not hidden else treatment(LENS, 5, 50)
    flat = asked.optics.flat
    assert flat is not None
    told: list[int] = []
    track = follow_clip(clip, info, times, 0, FRAMES - 1, flat, asked.optics, lambda done, total: told.append(done))
    errors = away(track.corners, LENS)[track.confidence > 0]
    print(f"corners: {np.sqrt((errors**2).mean()):.3f} px RMS, {errors.max():.3f} px at most")
    assert np.sqrt((errors**2).mean()) < 0.25
    assert errors.max() < 0.8
    assert ((track.confidence == 0) == np.isin(np.arange(FRAMES), hidden)).mean() > 0.95
    assert told[-1] >= FRAMES - 1
    document = flat_thing_document(track, asked, info, times)
    rows = flat_thing_csv(document).splitlines()
    assert len(rows) == FRAMES + 1
    assert rows[0].startswith("frame,time,confidence,source_1_x,source_1_y")
    assert "plate_4_y" in rows[0]
    plate = np.array(document["frames"][7]["plate"])
    sides = np.hypot(*(np.roll(plate, -1, 0) - plate).T)
    true_sides = np.hypot(*(np.roll(corners_at(7), -1, 0) - corners_at(7)).T)
    assert np.allclose(sides / sides[0], true_sides / true_sides[0], rtol=0.02)


def test_what_cannot_be_followed_is_said(tmp_path: Path) -> None:
    clip = tmp_path / "poster.mp4"
    write_pictures(iter(filmed(LENS)[:8]), SIZE, 30, clip, quality=12)
    info, times = probe(clip)
    asked = treatment(LENS, 50)
    assert asked.optics.flat is not None
    with pytest.raises(RangeError, match="corners were not set inside frames 0-7"):
        follow_clip(clip, info, times, 0, 7, asked.optics.flat, asked.optics)
    crossed = {"marks": [{"frame": 0, "corners": [[0, 0], [50, 50], [50, 0], [0, 50]]}]}
    with pytest.raises(TreatmentError, match="clockwise"):
        Treatment.from_json({"optics": {"flat": crossed}})
