"""Speed and memory, as ratios in one run: against bare decoding and plain transcoding of the same file.

.venv/bin/python benchmarks/speed.py
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import time
from fractions import Fraction
from pathlib import Path

import cv2

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.encode import EncodeSettings, write_video
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import probe
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.path.tradeoff import trade_off
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.memory import keep_freed_memory
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.rendering import render_clip
from keen_horizon.pipeline.streams import Behind, ahead
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
from walks import walked as walk  # the tests' made-up camera motion

FULL_HD = Size(1920, 1080)
HALF = Size(960, 540)
SECONDS = (10, 60)


def make_clip(path: Path, size: Size, seconds: int) -> None:
    """A shaken clip: 2 seconds of pictures, repeated."""
    part = list(shaken_pictures(jitter(60, HALF, 6.0, seed=3), HALF, walkers=2))
    if size != HALF:
        part = [cv2.resize(picture, (size.width, size.height), interpolation=cv2.INTER_CUBIC) for picture in part]
    write_pictures((part[i % 60] for i in range(seconds * 30)), size, 30, path, quality=20)


def decode(path: Path) -> int:
    return sum(1 for _ in read_frames(path))


def transcode(source: Path, target: Path) -> None:
    """Decode and encode with the renderer's settings, overlapped as the renderer overlaps them."""
    settings = EncodeSettings(FULL_HD, 8, "420", Fraction(30), Fraction(1, 15360))
    with write_video(target, settings) as writer, Behind() as encoder:
        for frame in ahead(read_frames(source)):
            encoder.call(writer.write, frame.planes, frame.time)


def timed(work) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def peak_memory(kind: str, clip: Path) -> float:
    """Peak resident MB of measuring or rendering in a process of its own."""
    done = subprocess.run(
        [sys.executable, __file__, kind, str(clip)], capture_output=True, text=True, check=True, env=os.environ
    )
    return float(done.stdout.strip().splitlines()[-1])


def child(kind: str, clip: Path) -> None:
    info, times = probe(clip)
    measurement = measure_clip(clip, info, times, 0, info.frames - 1)
    if kind == "render":
        treatment = Treatment()
        render_clip(clip, info, times, solve_path(measurement, treatment), treatment, clip.with_suffix(".out.mp4"))
    status = Path("/proc/self/status").read_text()
    print(int(re.search(r"VmHWM:\s+(\d+)", status)[1]) / 1024)


def changed(motion: dict, edges: str, limit: float = 1.1) -> Treatment:
    return Treatment.from_json({"motion": motion, "edges": {"way": edges, "zoom_limit": limit}})


def thinking() -> dict[str, object]:
    """Seconds that an editor waits for: the trade-off curve, and solving again under a limit that binds."""
    long = walk(600, 1)
    curves = {
        "glide": changed({}, "fill"),
        "hold": changed({"intent": "hold"}, "fill"),
        "glide with tilt": changed({"freedom": ["shift", "turn", "size", "tilt"]}, "fill"),
        "glide, borrow": changed({}, "borrow"),
    }
    solves = {
        f"{intent}, {edges}": changed({"intent": intent}, edges, 1.03)
        for intent in ("glide", "hold", "level")
        for edges in ("fill", "trim", "borrow")
    }
    part = long.part(0, 299)
    return {
        "trade-off, 12 points, 600 frames, s": {name: best(trade_off, long, t) for name, t in curves.items()},
        "solving again, 300 frames, limit 1.03, s": {name: best(solve_path, part, t) for name, t in solves.items()},
    }


def best(work, *arguments: object) -> float:
    return round(min(timed(lambda: work(*arguments)) for _ in range(3)), 3)


def main() -> None:
    result: dict[str, object] = {}
    with tempfile.TemporaryDirectory() as folder:
        clip = Path(folder) / "full.mp4"
        make_clip(clip, FULL_HD, 10)
        info, times = probe(clip)
        bare = timed(lambda: decode(clip))
        measuring = timed(lambda: measure_clip(clip, info, times, 0, info.frames - 1))
        measurement = measure_clip(clip, info, times, 0, info.frames - 1)
        treatment = Treatment()
        solving = min(timed(lambda: solve_path(measurement, treatment)) for _ in range(5))
        path = solve_path(measurement, treatment)
        target = Path(folder) / "out.mp4"
        plain = timed(lambda: transcode(clip, target))
        rendering = timed(lambda: render_clip(clip, info, times, path, treatment, target))
        lending = Treatment.from_json({"motion": {"intent": "hold"}, "edges": {"way": "borrow", "zoom_limit": 3}})
        lent = solve_path(measurement, lending)
        borrowing = timed(lambda: render_clip(clip, info, times, lent, lending, target))
        glass = Treatment.from_json({"optics": {"lens": {"family": "equidistant", "coefficients": [1.2]}}})
        seen = solve_path(measurement, glass)
        straightening = timed(lambda: render_clip(clip, info, times, seen, glass, target))
        bend = Treatment.from_json({"motion": {"bend_limit_px": 4}})
        bent = solve_path(measurement, bend)
        bending = timed(lambda: render_clip(clip, info, times, bent, bend, target))
        read = {"motion": {"rolling_shutter": 0.6}}
        rolled, rolled_straight = (Treatment.from_json(read | more) for more in ({}, glass.to_json() | read))
        rows, rows_straight = (solve_path(measurement, t) for t in (rolled, rolled_straight))
        reading = timed(lambda: render_clip(clip, info, times, rows, rolled, target))
        reading_straight = timed(lambda: render_clip(clip, info, times, rows_straight, rolled_straight, target))
        light = {"falloff": {"coefficients": [-0.6, 0.05], "centre_x": 0.03}}
        colours = {"fringe": {"red": [0.0017, 0.0], "blue": [-0.0016, 0.0]}}
        lit, clean = (
            Treatment.from_json({"optics": glass.to_json()["optics"] | part}) for part in (light, light | colours)
        )
        lifting, aligning = (timed(lambda t=t: render_clip(clip, info, times, seen, t, target)) for t in (lit, clean))
        solving_straight = min(timed(lambda: solve_path(measurement, glass)) for _ in range(3))
        result["1080p, 300 frames"] = {
            "bare decode fps": round(300 / bare, 1),
            "measure fps, decode included": round(300 / measuring, 1),
            "measure / bare decode": round(measuring / bare, 2),
            "solve s": round(solving, 4),
            "plain transcode fps": round(300 / plain, 1),
            "render fps": round(300 / rendering, 1),
            "render / plain transcode": round(rendering / plain, 2),
            "borrow / plain transcode": round(borrowing / plain, 2),
            "lens and motion / plain transcode": round(straightening / plain, 2),
            "motion and bend / plain transcode": round(bending / plain, 2),
            "rows and motion / plain transcode": round(reading / plain, 2),
            "lens, rows and motion / plain transcode": round(reading_straight / plain, 2),
            "lens, motion and fall-off / plain transcode": round(lifting / plain, 2),
            "lens, motion, fall-off and fringes / plain transcode": round(aligning / plain, 2),
            "solve in the straightened picture s": round(solving_straight, 3),
        }
        result |= thinking()
        clips = {seconds: Path(folder) / f"{seconds}.mp4" for seconds in SECONDS}
        for seconds, path_of in clips.items():
            make_clip(path_of, FULL_HD, seconds)
        memory = {kind: [peak_memory(kind, clips[s]) for s in SECONDS] for kind in ("measure", "render")}
        result["1080p, peak MB"] = {
            kind: {"10 s": round(a), "60 s": round(b), "growth %": round(100 * (b / a - 1), 1)}
            for kind, (a, b) in memory.items()
        }
    print(json.dumps(result, indent=1))


if __name__ == "__main__":
    keep_freed_memory()  # as the application does
    if len(sys.argv) == 3:
        child(sys.argv[1], Path(sys.argv[2]))
    else:
        main()
