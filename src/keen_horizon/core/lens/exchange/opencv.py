"""Calibration files of OpenCV's FileStorage: YAML, XML and JSON.

`camera_matrix` has pixels of the upright picture, the origin in the middle of the top left pixel;
`distortion_coefficients` are k1 k2 p1 p2 k3, or the fisheye's k1 k2 k3 k4 where `fisheye_model` is 1.
"""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import ProfileError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.exchange.radial import angular_curve, forward_curve
from keen_horizon.core.lens.over_time import lens_of
from keen_horizon.core.lens.profile import Profile, profile_of
from keen_horizon.core.treatment.optics import LensSettings

Floats = NDArray[np.float64]
FORMS = ("yml", "xml", "json")


def write_opencv(profile: Profile, form: str) -> str:
    """A profile as one of FORMS. Raises ProfileError where four or five coefficients cannot tell the lens."""
    lens, size = lens_of(profile.lens), profile.size
    fisheye = lens.kind.angular
    curve = angular_curve(lens, size) if fisheye else forward_curve(lens, size, profile.focal)
    half = size.half_diagonal
    focal = curve.focal * half
    middle = size.centre + lens.centre * half
    matrix = np.array([[focal * lens.squeeze, 0, middle.real], [0, focal, middle.imag], [0, 0, 1]])
    coefficients = np.array(curve.k)
    if not fisheye:
        coefficients = np.insert(coefficients, 2, [lens.p1 * curve.focal, lens.p2 * curve.focal])
    store = cv2.FileStorage(f"profile.{form}", cv2.FILE_STORAGE_WRITE | cv2.FILE_STORAGE_MEMORY)
    for key, text in (("name", profile.name), ("camera", profile.camera), ("mode", profile.mode)):
        store.write(key, text)
    store.write("image_width", size.width)
    store.write("image_height", size.height)
    store.write("fisheye_model", int(fisheye))
    store.write("camera_matrix", matrix)
    store.write("distortion_coefficients", coefficients[:, None])
    store.write("fitted_within_px", curve.error_px)
    return str(store.releaseAndGetString())


def read_opencv(text: str, name: str) -> Profile:
    """A profile from a calibration file's text; `name` is used where it has none. Raises ProfileError."""
    try:
        store = cv2.FileStorage(text, cv2.FILE_STORAGE_READ | cv2.FILE_STORAGE_MEMORY)
    except (cv2.error, SystemError) as error:
        raise ProfileError(f"{name}: this is not a calibration file of OpenCV's form.") from error
    matrix = _matrix(store, name, "camera_matrix", "Camera_Matrix", "cameraMatrix", "K")
    found = _matrix(store, name, "distortion_coefficients", "Distortion_Coefficients", "distCoeffs", "D").ravel()
    size = Size(int(_number(store, name, "image_width", "image_Width")), int(_number(store, name, "image_height")))
    kind = _text(store, "distortion_model") or ""
    fisheye = _is_fisheye(store, kind)
    settings, focal = settings_from_opencv(matrix, found, size, fisheye, name)
    about: dict[str, Any] = {key: _text(store, key) or "" for key in ("camera", "mode")} | {"focal": focal}
    return profile_of(_text(store, "name") or name, size, settings, **about)


def settings_from_opencv(
    matrix: Floats, found: Floats, size: Size, fisheye: bool, name: str = "The calibration"
) -> tuple[LensSettings, float]:
    """A lens, and its focal length in half-diagonals, from a camera matrix and coefficients. Raises ProfileError."""
    if matrix.shape != (3, 3) or not (matrix[0, 0] > 0 and matrix[1, 1] > 0):
        raise ProfileError(f"{name}: its camera matrix is not one of three rows with focal lengths above 0.")
    half = size.half_diagonal
    centre = (complex(matrix[0, 2], matrix[1, 2]) - size.centre) / half
    focal = float(matrix[1, 1]) / half
    shared = {
        "centre_x": centre.real, "centre_y": centre.imag, "squeeze": float(matrix[0, 0] / matrix[1, 1]),
    }  # fmt: skip
    bend = _fisheye(found, focal, name) if fisheye else _pinhole(found, focal, name)
    try:
        return LensSettings.model_validate(bend | shared), focal
    except ValueError as error:
        raise ProfileError(
            f"{name}: its figures are outside what a lens can have. Is the picture size right?"
        ) from error


def _fisheye(found: Floats, focal: float, name: str) -> dict[str, Any]:
    if len(found) != 4:
        raise ProfileError(f"{name}: a fisheye has four distortion coefficients, this file has {len(found)}.")
    return {"family": "series", "coefficients": [1 / focal**2, *map(float, found)]}


def _pinhole(found: Floats, focal: float, name: str) -> dict[str, Any]:
    if np.any(found[5:] != 0):
        raise ProfileError(f"{name}: only k1 k2 p1 p2 k3 can be taken; the further coefficients are not 0.")
    k1, k2, p1, p2, k3 = (float(v) for v in (*found[:5], *[0.0] * 5)[:5])
    return {
        "family": "polynomial", "coefficients": [k1 / focal**2, k2 / focal**4, k3 / focal**6],
        "p1": p1 / focal, "p2": p2 / focal,
    }  # fmt: skip


def _node(store: Any, *keys: str) -> Any:
    for key in keys:
        node = store.getNode(key)
        if not node.empty():
            return node
    return None


def _matrix(store: Any, name: str, *keys: str) -> Floats:
    node = _node(store, *keys)
    found = node.mat() if node is not None and node.isMap() else None
    if found is None or not np.isfinite(found).all():
        raise ProfileError(f"{name}: the file has no {keys[0]}.")
    return np.asarray(found, np.float64)


def _number(store: Any, name: str, *keys: str) -> float:
    node = _node(store, *keys)
    if node is None or not (node.isInt() or node.isReal()):
        raise ProfileError(f"{name}: the file has no {keys[0]}.")
    return float(node.real())


def _text(store: Any, key: str) -> str | None:
    node = _node(store, key)
    return str(node.string())[:80] if node is not None and node.isString() else None


def _is_fisheye(store: Any, kind: str) -> bool:
    node = _node(store, "fisheye_model")
    return kind in ("fisheye", "equidistant") or bool(node is not None and node.isInt() and node.real() == 1)
