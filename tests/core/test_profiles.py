"""Lens profiles: saved, applied at other resolutions, and through other open forms and back."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from keen_horizon.core.errors import ProfileError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.exchange.files import FORMS, LARGEST, left_out, read_profile, write_profile
from keen_horizon.core.lens.exchange.openlensio import write_openlensio
from keen_horizon.core.lens.over_time import lens_of
from keen_horizon.core.lens.profile import Profile, profile_of, starters
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import FalloffSettings, FringeSettings, LensSettings

HD = Size(1920, 1080)
BENT = LensSettings(
    family="polynomial", coefficients=(-0.2, 0.05, 0.01), p1=0.003, p2=-0.002, centre_x=0.01, squeeze=1.2
)
FISHEYE = LensSettings(family="series", coefficients=(1.2, -0.02, 0.01, 0.0, 0.0), centre_y=-0.02)
INVERSE = LensSettings(family="inverse", coefficients=(0.2, 0.1), centre_x=-0.01)


def apart(a: Profile, b: Profile) -> float:
    """How far two lenses put points of the frame from each other, px of the source."""
    x, y = np.meshgrid(np.linspace(0, a.width - 1, 21), np.linspace(0, a.height - 1, 15))
    points = np.stack([x.ravel(), y.ravel()], -1)
    straight = lens_of(a.lens).straighten(points, a.size)
    seen = np.abs(straight).max(1) < 1e5
    assert seen.mean() > 0.9
    return float(np.abs(lens_of(b.lens).bend(straight[seen], b.size) - points[seen]).max())


@pytest.mark.parametrize("lens", [BENT, FISHEYE, INVERSE], ids=["polynomial", "fisheye", "inverse"])
@pytest.mark.parametrize("form", FORMS)
def test_a_profile_survives_every_form_that_can_tell_it(lens: LensSettings, form: str) -> None:
    profile = profile_of("Town lens", HD, lens, camera="made up", mode="wide")
    fitted = {"opencv.": INVERSE, "openlen": FISHEYE}.get(form[:7])
    back = read_profile(write_profile(profile, form).encode(), f"town.{form}")
    assert (back.name, back.size) == ("Town lens", HD)
    if form != "openlensio.json":
        assert (back.camera, back.mode) == ("made up", "wide")
    assert apart(profile, back) < (1.5 if lens is fitted else 1e-5)


def test_light_goes_along_where_a_form_has_a_place_for_it() -> None:
    light = FalloffSettings(coefficients=(-0.5, 0.1), centre_x=0.01, centre_y=0.02, dead_radius=0.9)
    lens = INVERSE.model_copy(update={"centre_x": 0.01, "centre_y": -0.02})
    profile = profile_of("Town lens", HD, lens, falloff=light, fringe=FringeSettings(red=(0.001, 0.0)))
    back = read_profile(write_profile(profile, "openlensio.json").encode(), "town.json")
    assert back.falloff is not None
    assert back.falloff.coefficients[:2] == pytest.approx(light.coefficients)
    assert (back.falloff.centre_x, back.falloff.centre_y) == pytest.approx((0.01, -0.02))
    left = {form: left_out(profile, form) for form in FORMS}
    assert left["profile.json"] == ()
    assert left["openlensio.json"] == ("the middle of its light", "where no light arrives", "how its colours lie apart")
    assert left["opencv.yml"] == ("how light falls off", "where no light arrives", "how its colours lie apart")
    document = write_openlensio(profile)
    for wrong in (5, {"a1": "x"}, {"a1": 1e9}):
        document["lens"]["exposureFalloff"] = wrong
        with pytest.raises(ProfileError, match="town"):
            read_profile(json.dumps(document).encode(), "town.json")


def test_what_an_opencv_calibration_says_is_what_opencv_does() -> None:
    import cv2

    profile = profile_of("Town lens", HD, BENT.model_copy(update={"squeeze": 1.0}), focal=0.8)
    store = cv2.FileStorage(write_profile(profile, "opencv.yml"), cv2.FILE_STORAGE_READ | cv2.FILE_STORAGE_MEMORY)
    matrix, bend = (store.getNode(key).mat() for key in ("camera_matrix", "distortion_coefficients"))
    assert matrix[1, 1] == pytest.approx(0.8 * HD.half_diagonal)
    rays = np.array([[0.0, 0, 1], [0.4, 0.3, 1], [-0.7, 0.2, 1], [0.1, -0.5, 1]])
    theirs = cv2.projectPoints(rays, np.zeros(3), np.zeros(3), matrix, bend)[0][:, 0]
    middle = np.array([HD.centre.real, HD.centre.imag]) + 0.01 * HD.half_diagonal * np.array([1, 0])
    ours = lens_of(profile.lens).bend(rays[:, :2] * 0.8 * HD.half_diagonal + middle, HD)
    assert ours == pytest.approx(theirs, abs=1e-3)


def test_a_profile_goes_to_any_resolution_of_its_aspect_only() -> None:
    profile = profile_of("Town lens", HD, FISHEYE)
    before = Treatment.from_json({"optics": {"lens": BENT.model_dump() | {"canvas": 0.4}}})
    after = profile.applied(before, "small.mp4", Size(640, 360), 25)
    assert after.optics.lens == FISHEYE.model_copy(update={"canvas": 0.4})
    with pytest.raises(ProfileError, match=r"tall\.mp4: its picture is 1080×1920.*same aspect"):
        profile.applied(before, "tall.mp4", Size(1080, 1920), 25)


def test_a_readout_is_the_same_time_at_any_frame_rate() -> None:
    profile = profile_of("Town lens", HD, FISHEYE, readout_s=0.016)
    given = [profile.applied(Treatment(), "clip.mp4", HD, rate).motion.rolling_shutter for rate in (25, 50, 240)]
    assert given == pytest.approx([0.4, 0.8, 1.2])
    assert profile_of("Town lens", HD, FISHEYE).applied(Treatment(), "clip.mp4", HD, 25).motion == Treatment().motion


def test_a_profile_of_a_readout_alone_leaves_the_lens_as_it_is() -> None:
    profile = profile_of("Drone, 25p", HD, LensSettings(family="division", coefficients=(0.0,)), readout_s=0.016)
    before = Treatment.from_json({"optics": {"lens": BENT.model_dump(), "focal": 0.8}})
    for treatment in (before, Treatment()):
        after = profile.applied(treatment, "clip.mp4", HD, 25)
        assert after.optics == treatment.optics
        assert after.motion.rolling_shutter == pytest.approx(0.4)


def test_light_that_falls_off_goes_along() -> None:
    light = {"coefficients": [-0.4, -0.1], "centre_x": 0.02}
    profile = profile_of("Town lens", HD, FISHEYE, falloff=light)
    given = Profile.from_json(profile.to_json()).applied(Treatment(), "clip.mp4", HD, 25).optics.falloff
    assert given == Treatment.from_json({"optics": {"falloff": light}}).optics.falloff
    kept = Treatment.from_json({"optics": {"falloff": {"coefficients": [-0.2]}}})
    assert profile_of("Town lens", HD, FISHEYE).applied(kept, "clip.mp4", HD, 25).optics.falloff == kept.optics.falloff


def test_the_example_in_the_docs_is_a_profile() -> None:
    file = Path(__file__).parents[2] / "docs/examples/profiles/action_camera_150.json"
    assert read_profile(file.read_bytes(), file.name) in starters()


def test_starters_are_sound_and_named_once() -> None:
    profiles = starters()
    assert len({profile.name for profile in profiles}) == len(profiles) >= 5
    assert all(Profile.from_json(json.loads(json.dumps(p.to_json()))) == p for p in profiles)


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("", "the file is empty"),
        ("hello", "not a calibration file|no camera_matrix"),
        ("{}", "no camera_matrix|not a calibration file"),
        ("%YAML:1.0\n---\ncamera_matrix: 3\n", "no camera_matrix"),
        ('{"schema": "keen-horizon/lens-profile/1", "name": "x"}', "width: Field required"),
        ('{"static": {"camera": {}}, "lens": {}}', "lacks 'activeSensorPhysicalDimensions'"),
    ],
)
def test_what_is_no_profile_is_refused_by_name(text: str, complaint: str) -> None:
    with pytest.raises(ProfileError, match=complaint):
        read_profile(text.encode(), "odd.yml")


def test_files_that_cannot_be_profiles_are_refused() -> None:
    with pytest.raises(ProfileError, match=r"odd\.yml: a lens profile is never larger"):
        read_profile(b"x" * (LARGEST + 1), "odd.yml")
    with pytest.raises(ProfileError, match="not a text file"):
        read_profile(b"\xff\xfe\x00", "odd.yml")


def test_further_coefficients_are_not_dropped_in_silence() -> None:
    text = write_profile(profile_of("Town lens", HD, BENT), "opencv.json")
    document = json.loads(text)
    document["distortion_coefficients"] |= {"rows": 8, "data": [0.1, 0, 0, 0, 0, 0.2, 0, 0]}
    with pytest.raises(ProfileError, match="further coefficients are not 0"):
        read_profile(json.dumps(document).encode(), "odd.json")
    with pytest.raises(ProfileError, match="bends too much"):
        write_profile(starters()[3], "openlensio.json")
