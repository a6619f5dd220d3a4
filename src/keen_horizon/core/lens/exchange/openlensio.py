"""The lens part of SMPTE's OpenLensIO description, as its JSON is carried beside pictures.

Taken: the active sensor's size, the pinhole focal length, the distortion as radial and tangential coefficients
of Brown and Conrady's model over the focal length, from bent to straight ("D-U") or from straight to bent
("U-D"), the distortion's offset, and the exposure fall-off 1 + a1 r^2 + a2 r^4 + a3 r^6, r over the focal length as in
the distortion and about its offset. Lengths are millimetres.
"""

from __future__ import annotations

from typing import Any

from keen_horizon.core.errors import ProfileError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.exchange.radial import Curve, forward_curve, inverse_curve
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.over_time import lens_of
from keen_horizon.core.lens.profile import Profile, profile_of
from keen_horizon.core.treatment.optics import FalloffSettings, LensSettings

SENSOR_WIDTH_MM = 36.0  # assumed where nothing is known; only ratios matter to the picture
FADING = {"a1": 2, "a2": 4, "a3": 6}  # coefficients of the exposure fall-off, and the radius's powers
BENT_TO_STRAIGHT, STRAIGHT_TO_BENT = "Brown-Conrady D-U", "Brown-Conrady U-D"


def write_openlensio(profile: Profile) -> dict[str, Any]:
    """A profile as the description. Raises ProfileError where three coefficients cannot tell the lens."""
    lens, size = lens_of(profile.lens), profile.size
    model, curve = _told(lens, size, profile.focal)
    mm = SENSOR_WIDTH_MM / size.width
    half = size.half_diagonal * mm
    light = {} if profile.falloff is None else {"exposureFalloff": _exposure(profile.falloff, curve.focal)}
    return {
        "static": {
            "camera": {
                "label": profile.camera,
                "activeSensorPhysicalDimensions": {"width": SENSOR_WIDTH_MM, "height": size.height * mm},
                "activeSensorResolution": {"width": size.width, "height": size.height},
                "anamorphicSqueeze": profile.lens.squeeze,
            },
            "lens": {"model": profile.name, "calibrationHistory": [profile.mode, profile.note]},
        },
        "lens": {
            "pinholeFocalLength": curve.focal * half,
            "distortion": [
                {
                    "model": model,
                    "radial": list(curve.k),
                    "tangential": [lens.p1 * curve.focal, lens.p2 * curve.focal],
                }
            ],
            "distortionOffset": {"x": lens.centre.real * half, "y": lens.centre.imag * half},
            **light,
        },
    }


def read_openlensio(document: dict[str, Any], name: str) -> Profile:
    """A profile from the description. Raises ProfileError naming what is missing."""
    try:
        camera, lens = document["static"]["camera"], document["lens"]
        sensor, pixels = camera["activeSensorPhysicalDimensions"], camera["activeSensorResolution"]
        size = Size(int(pixels["width"]), int(pixels["height"]))
        half = size.half_diagonal * float(sensor["width"]) / size.width
        focal = float(lens["pinholeFocalLength"]) / half
        bend = lens["distortion"][0]
        model = bend.get("model", BENT_TO_STRAIGHT)
        radial = [float(k) / focal ** (2 * i + 2) for i, k in enumerate(bend["radial"])]
        p1, p2 = (float(p) / focal for p in (bend.get("tangential") or (0.0, 0.0))[:2])
        offset = lens.get("distortionOffset") or {"x": 0.0, "y": 0.0}
        shared = {"centre_x": float(offset["x"]) / half, "centre_y": float(offset["y"]) / half}
        squeeze = float(camera.get("anamorphicSqueeze", 1))
        light = lens.get("exposureFalloff")
        fading = None if light is None else [float(light.get(key, 0)) / focal**power for key, power in FADING.items()]
    except (AttributeError, KeyError, IndexError, TypeError, ValueError, ZeroDivisionError) as error:
        raise ProfileError(f"{name}: the description lacks {error}, or it is not a number.") from error
    family = {BENT_TO_STRAIGHT: "inverse", STRAIGHT_TO_BENT: "polynomial"}.get(model)
    if family is None:
        raise ProfileError(f"{name}: its distortion model “{model}” is not known here.")
    if any(radial[3:]) or (family == "inverse" and (p1 or p2)):
        raise ProfileError(
            f"{name}: only three radial coefficients, and tangential ones from straight to bent, can be taken."
        )
    try:
        settings = LensSettings.model_validate(
            {"family": family, "coefficients": radial[:3] or [0.0], "squeeze": squeeze, "p1": p1, "p2": p2, **shared}
        )
        falloff = None if fading is None else FalloffSettings.model_validate({"coefficients": fading, **shared})
    except ValueError as error:
        raise ProfileError(f"{name}: its figures are outside what a lens can have.") from error
    title = document["static"].get("lens", {}).get("model") or name
    return profile_of(
        str(title)[:80], size, settings, camera=str(camera.get("label", ""))[:80], focal=focal, falloff=falloff
    )


def _exposure(falloff: FalloffSettings, focal: float) -> dict[str, float]:
    """Its coefficients over the focal length, in half-diagonals."""
    return {key: c * focal**power for (key, power), c in zip(FADING.items(), falloff.coefficients, strict=False)}


def _told(lens: Lens, size: Size, focal: float | None) -> tuple[str, Curve]:
    """The direction that tells the lens better."""
    if lens.family == "polynomial":
        return STRAIGHT_TO_BENT, forward_curve(lens, size, focal)
    return BENT_TO_STRAIGHT, inverse_curve(lens, size, focal)
