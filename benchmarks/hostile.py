"""Input as a hostile network, a failing card or a careless script makes it: damaged files, and documents gone wrong.

All of it is made from a seed, so a case can be made again by its number.
"""

from __future__ import annotations

import contextlib
import copy
import io
import json
import random
import struct
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

SEED_CLIPS = {
    "h264.mp4": ("libx264", "yuv420p", "aac"),
    "h264.mov": ("libx264", "yuv420p", "pcm_s16le"),
    "h265.mp4": ("libx265", "yuv420p10le", None),
    "vp9.webm": ("libvpx-vp9", "yuv420p", "libopus"),
    "ffv1.mkv": ("ffv1", "yuv422p10le", "flac"),
    "mjpeg.avi": ("mjpeg", "yuvj420p", "pcm_s16le"),
    "prores.mov": ("prores_ks", "yuv422p10le", None),
    "keyed.mov": ("prores_ks", "yuva444p10le", None),
    "camcorder.m2ts": ("libx264", "yuv420p", "ac3"),
    "broadcast.ts": ("mpeg2video", "yuv420p", "mp2"),
    "disc.mpg": ("mpeg2video", "yuv420p", "mp2"),
    "house.mxf": ("mpeg2video", "yuv422p", "pcm_s16le"),
    "tape.dv": ("dvvideo", "yuv420p", None),
}
INTERLACED = ("camcorder.m2ts", "disc.mpg", "house.mxf")
SIZES = {"tape.dv": "720x576"}  # of which DV has no other
FRAMES = 10
EXTREMES = (0, 1, 0x7F, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFE, 0xFFFFFFFF)
HEADER_SHARE = 0.6  # of the damage goes where files keep their structure: their first and last 4 kB


def measured_and_corrected(clip: str, folder: str) -> str:
    """Run both commands on a clip, into a folder; what they said, or "" where they did both."""
    from keen_horizon import cli

    said = io.StringIO()
    with contextlib.redirect_stderr(said):
        for command in (["measure", clip, "--out", f"{folder}/m.npz"], ["correct", clip, f"{folder}/c.mp4"]):
            if cli.main(command):
                return said.getvalue().strip().splitlines()[-1]
    return ""


def seed_clips(folder: Path, ffmpeg: str = "ffmpeg") -> list[Path]:
    """Small whole clips of every kind that is let in, to be damaged."""
    made, seconds = [], FRAMES / 25
    for name, (video, pixels, sound) in SEED_CLIPS.items():
        path = folder / name
        pictures = f"testsrc2=size={SIZES.get(name, '128x96')}:rate=25:duration={seconds}"
        command = [ffmpeg, "-v", "error", "-y", "-f", "lavfi", "-i", pictures]
        if sound:
            command += ["-f", "lavfi", "-i", f"sine=duration={seconds}", "-c:a", sound, "-ar", "48000"]
        quiet = ["-x265-params", "log-level=none"] if video == "libx265" else []
        woven = ["-flags", "+ilme+ildct", "-top", "1"] if name in INTERLACED else []
        subprocess.run([*command, "-c:v", video, "-pix_fmt", pixels, *quiet, *woven, str(path)], check=True)
        made.append(path)
    return made


def damaged(content: bytes, draw: random.Random) -> bytes:
    """A file with some of its bytes gone wrong."""
    data = bytearray(content)
    for _ in range(draw.choice((1, 1, 2, 4, 16))):
        _damage(data, draw)
    return bytes(data)


def _damage(data: bytearray, draw: random.Random) -> None:
    if len(data) < 16:
        data += draw.randbytes(16)
    at = _place(len(data), draw)
    length = draw.choice((1, 2, 4, 8, 64, 1024))
    kind = draw.choice(("bit", "field", "noise", "cut", "drop", "double", "zero", "longer"))
    if kind == "bit":
        data[at] ^= 1 << draw.randrange(8)
    elif kind == "field":
        packed = struct.pack(draw.choice((">I", "<I", ">H", "<H")), draw.choice(EXTREMES) & 0xFFFF)
        if len(packed) == 4:
            packed = struct.pack(">I", draw.choice(EXTREMES))
        data[at : at + len(packed)] = packed
    elif kind == "noise":
        data[at : at + length] = draw.randbytes(length)
    elif kind == "cut":
        del data[max(12, at) :]
    elif kind == "drop":
        del data[at : at + length]
    elif kind == "double":
        data[at:at] = data[at : at + length]
    elif kind == "zero":
        data[at : at + length] = bytes(length)
    else:
        data += draw.randbytes(length)


def _place(size: int, draw: random.Random) -> int:
    if draw.random() < HEADER_SHARE:
        edge = min(4096, size)
        return draw.randrange(edge) if draw.random() < 0.5 else size - 1 - draw.randrange(edge)
    return draw.randrange(size)


NUMBERS: tuple[Any, ...] = (
    0, -1, 1, 2, 0.5, 1e-9, -1e-9, 1e26, -1e26, 1e308, -1e308, 2**31, 2**63, 10**40, float("nan"), float("inf"),
)  # fmt: skip
ODD: tuple[Any, ...] = (None, True, "", "x" * 3000, "\x00", "\ud800", [], {}, [[]], [1, 2, 3], {"a": 1}, *NUMBERS)


def treatments(base: dict[str, Any], count: int, seed: int) -> Iterator[str]:
    """Treatments as JSON text, each the base with one to four of its values, somewhere, become something else."""
    draw = random.Random(seed)
    for _ in range(count):
        document = copy.deepcopy(base)
        for _ in range(draw.choice((1, 1, 1, 2, 4))):
            _derange(document, draw)
        yield json.dumps(document)


def rich_treatment() -> dict[str, Any]:
    """A treatment that has something of everything, for a clip of 640x360 and 30 frames or more."""
    level = {"frame": 3, "x1": 10, "y1": 20, "x2": 300, "y2": 25}
    outline = {"frame": 4, "polygon": [[20, 20], [120, 25], [110, 160]]}
    area = {"name": "passer-by", "follows": True, "keys": [outline]}
    frame = {
        "name": "all but the rim",
        "only": True,
        "span": [3, 20],
        "keys": [{"frame": 0, "polygon": [[9, 9], [620, 9], [620, 350], [9, 350]]}],
    }
    return {
        "schema": "keen-horizon/treatment/1",
        "range": {"in": 2, "out": 25},
        "optics": {
            "lens": {"family": "division", "coefficients": [-0.1, 0.02], "centre_x": 0.01, "canvas": 0.2},
            "straightedges": [{"frame": 4, "points": [[5, 5], [100, 9], [300, 20], [400, 31]]}],
            "turn": {"roll_deg": 1, "pitch_deg": 2, "yaw_deg": 0},
            "world_lines": [level],
            "corners": [0.01, 0, 0, 0, 0, 0, 0, 0.02],
            "projection": "straight",
            "focal": 1.1,
            "keys": [{"figure": "roll_deg", "keys": [{"frame": 3, "value": 1}, {"frame": 20, "value": 4}]}],
            "flat": {"marks": [{"frame": 3, "corners": [[50, 50], [200, 60], [210, 190], [40, 180]]}]},
            "falloff": {
                "coefficients": [-0.4, 0.1], "centre_x": 0.02, "amount": 0.9, "lift_limit_stops": 1.5,
                "dead_edge": {"radius": 1.0, "sides": [{"angle_deg": 90, "distance": 0.5}], "softness": 0.04},
                "keys": [{"figure": "falloff_1", "keys": [{"frame": 3, "value": -0.4}, {"frame": 20, "value": -0.5}]}],
            },
            "fringe": {
                "red": [0.0017, 0.0], "blue": [-0.0016, 0.0005], "centre_y": 0.01,
                "haze": {"amount": 0.5, "hue_deg": 290, "width_deg": 60},
                "keys": [{"figure": "red_1", "keys": [{"frame": 3, "value": 0.001}, {"frame": 20, "value": 0.002}]}],
            },
        },
        "motion": {
            "intent": "glide",
            "response_s": 0.7,
            "response_keys": [{"frame": 3, "value": 0.5}, {"frame": 20, "value": 2}],
            "strength_keys": [{"frame": 3, "value": 0.5}, {"frame": 20, "value": 1}],
            "ease": [{"frame": 9, "width": 6, "amount": 0.5}],
            "pin": {"points": [{"marks": [{"frame": 4, "x": 100, "y": 100}]}], "drift_s": 1},
            "level": {"lines": [level]},
            "freedom": ["shift", "turn", "size", "tilt"],
            "ignore": [area, frame],
            "layer": {"frame": 5, "x": 300, "y": 200},
            "bend_limit_px": 4,
            "rolling_shutter": 0.4,
        },
        "edges": {
            "way": "fill", "borrow": {"reach_s": 0.2, "feather_px": 4, "rest": "fill"}, "zoom": "one",
            "zoom_limit": 1.2, "window": {"x": 3, "y": -2, "scale": 1.02, "turn_deg": 0.5},
            "size": {"width": 320, "height": 180}, "sharpen": 0.3,
        },
        "output": {"container": "mp4", "codec": "h264", "quality": 20, "sound": "copy"},
    }  # fmt: skip


def _derange(value: Any, draw: random.Random) -> None:
    """Change something inside a document: go down at random, then replace, remove, add or repeat."""
    while True:
        if isinstance(value, dict) and value:
            key: Any = draw.choice(list(value))
        elif isinstance(value, list) and value:
            key = draw.randrange(len(value))
        else:
            return
        inner = value[key]
        if isinstance(inner, (dict, list)) and inner and draw.random() < 0.85:
            value = inner
            continue
        change = draw.random()
        if change < 0.75:
            number = isinstance(inner, (int, float)) and draw.random() < 0.7
            value[key] = draw.choice(NUMBERS) if number else copy.deepcopy(draw.choice(ODD))
        elif change < 0.85:
            del value[key]
        elif isinstance(value, list):
            value.extend(copy.deepcopy(inner) for _ in range(draw.choice((1, 3, 200))))
        else:
            value[f"{key}_"] = inner
        return


def lens_files(whole: dict[str, str], count: int, seed: int) -> Iterator[tuple[str, bytes]]:
    """Names and contents of lens files: those made by hand, then damaged ones of every form in `whole`."""
    draw = random.Random(seed)
    yield from hand_made_lens_files()
    for number in range(count):
        name = draw.choice(list(whole))
        text = whole[name]
        if draw.random() < 0.5:
            yield f"{number}_{name}", damaged(text.encode(), draw)
        else:
            yield f"{number}_{name}", _reworded(text, draw).encode("utf-8", "replace")


def _reworded(text: str, draw: random.Random) -> str:
    """A text with some of its words replaced by others that a parser may stumble over."""
    words = text.split(" ")
    others = (
        "1e308", "-1e308", "nan", ".Inf", "-.Inf", "99999999999999999999", "!!binary", "&a", "*a", "<<:", "[", "]", "{",
        "}", "'", '"', "\t", "%YAML:1.0", "---", "<x>", "</x>", "&lt;", "<![CDATA[", "opencv-matrix", "\x00", "é",
    )  # fmt: skip
    for _ in range(draw.choice((1, 2, 5))):
        words[draw.randrange(len(words))] = draw.choice(others)
    return " ".join(words)


def hand_made_lens_files() -> Iterator[tuple[str, bytes]]:
    """The kinds that somebody would think of."""
    matrix = "camera_matrix: !!opencv-matrix\n  rows: 3\n  cols: 3\n  dt: d\n  data: [{}]\n"
    coefficients = (
        "distortion_coefficients: !!opencv-matrix\n  rows: 5\n  cols: 1\n  dt: d\n  data: [0.1, 0, 0, 0, 0]\n"
    )
    size = "image_width: 640\nimage_height: 360\n"
    good = "300, 0, 320, 0, 300, 180, 0, 0, 1"
    head = "%YAML:1.0\n---\n"
    broken = {
        "empty.yml": "",
        "head.yml": head,
        "brackets.yml": head + "a: " + "[" * 50_000,
        "braces.json": '{"a":' * 50_000,
        "closed.json": "[" * 50_000 + "]" * 50_000,
        "tags.xml": '<?xml version="1.0"?><opencv_storage>' + "<a>" * 30_000,
        "entities.xml": '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "cc">]><opencv_storage>&b;</opencv_storage>',
        "control.yml": head + "a: \x01\x02\x07",
        "long_line.yml": head + "name: " + "x" * 500_000,
        "anchors.yml": head + "a: &a [*a, *a]\n",
        "list.json": "[1, 2, 3]",
        "null.json": "null",
        "text.json": '"lens"',
        "number.json": "1e999",
    }
    calibrations = {
        "no_matrix.yml": size + coefficients,
        "no_size.yml": matrix.format(good) + coefficients,
        "nan.yml": size + matrix.format(good.replace("300", ".Nan")) + coefficients,
        "inf.yml": size + matrix.format(good.replace("300", ".Inf")) + coefficients,
        "zero.yml": size + matrix.format("0, 0, 0, 0, 0, 0, 0, 0, 0") + coefficients,
        "tiny.yml": size + matrix.format(good.replace("300", "1e-300")) + coefficients,
        "vast.yml": size + matrix.format(good.replace("300", "1e300")) + coefficients,
        "few.yml": size + matrix.format("1, 2, 3") + coefficients,
        "many.yml": size + matrix.replace("rows: 3", "rows: 2000000000").format(good) + coefficients,
        "minus.yml": size + matrix.replace("rows: 3", "rows: -3").format(good) + coefficients,
        "words.yml": size + matrix.format("a, b, c, d, e, f, g, h, i") + coefficients,
        "kinds.yml": size + matrix.replace("dt: d", 'dt: "9999d"').format(good) + coefficients,
        "size0.yml": "image_width: 0\nimage_height: 0\n" + matrix.format(good) + coefficients,
        "size_text.yml": "image_width: wide\nimage_height: []\n" + matrix.format(good) + coefficients,
        "size_vast.yml": "image_width: 99999999999\nimage_height: 5\n" + matrix.format(good) + coefficients,
    }
    schema = {"schema": "keen-horizon/lens-profile/1"}
    profile = schema | {"width": 640, "height": 360, "lens": {"family": "division", "coefficients": [0.1]}}
    documents = {
        "schema.json": schema,
        "schema_list.json": {"schema": []},
        "profile_half.json": profile | {"name": "a\ud800"},
        "profile_nul.json": profile | {"name": "a\x00b"},
        "profile_nan.json": profile | {"name": "a", "lens": {"family": "division", "coefficients": [float("nan")]}},
        "static.json": {"static": 5},
        "static_list.json": {"static": {"camera": []}, "lens": None},
        "openlensio_nan.json": _openlensio(float("nan")),
        "openlensio_vast.json": _openlensio(1e308),
        "openlensio_text.json": _openlensio("long"),
        "openlensio_zero.json": _openlensio(0),
        "openlensio_deep.json": _openlensio([[1]]),
    }
    texts = broken | {name: head + text for name, text in calibrations.items()}
    texts |= {name: json.dumps(document) for name, document in documents.items()}
    yield from ((name, text.encode("utf-8", "surrogatepass")) for name, text in texts.items())
    yield "binary.yml", bytes(range(256)) * 40
    yield "utf16.yml", (head + size).encode("utf-16")
    yield "large.yml", b"# " + b"x" * (3 << 20)


def _openlensio(value: Any) -> dict[str, Any]:
    return {
        "static": {
            "camera": {
                "activeSensorPhysicalDimensions": {"width": value, "height": 20},
                "activeSensorResolution": {"width": 640, "height": 360},
            }
        },
        "lens": {
            "pinholeFocalLength": value,
            "distortion": [{"model": "Brown-Conrady D-U", "radial": [0.1, value, 0]}],
            "distortionOffset": {"x": value, "y": 0},
        },
    }
