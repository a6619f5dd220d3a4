"""Spheres: turns measured, against the truth, of real pictures on a cube's faces; and level, of the painted harbour.

    .venv/bin/python benchmarks/sphere.py PICTURE PICTURE PICTURE PICTURE PICTURE PICTURE [--width 1920] [--frames 150]

The cube's camera rocks and turns by 60 degrees, once free and once with the bottom fifth of its picture turning along,
and once again so slowly that what it carries is hard to tell. Says the errors of pairs and of absolute turns, degrees
RMS; how still the held sphere stands, px; and how many frames a second are measured, beside how many are decoded.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path += [str(HERE.parent / "tests")]

import av
import cv2
import numpy as np
from scipy.spatial.transform import Rotation
from spheres import SMALL, errors, going_round, gone_by, harbour, measured, rocking, street

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.finding.vertical import find_vertical
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.probe import probe
from keen_horizon.core.media.scanning import Asked
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.rendering import render_clip
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.sphere import CubeWorld, SphereFilm

CARRIED = 0.2
GOING_FRAMES = 20


def told(name: str, measurement: Measurement, true: Rotation) -> None:
    """Print a line of errors."""
    pair, absolute = errors(measurement, true)
    print(f"{name}: pair {pair:.4f}, absolute {absolute:.4f} degrees RMS", flush=True)


def decoding(clip: Path) -> float:
    """Seconds to decode a film."""
    began = time.perf_counter()
    with av.open(str(clip)) as container:
        container.streams.video[0].thread_type = "AUTO"
        for _ in container.decode(video=0):
            pass
    return time.perf_counter() - began


def delivered(clip: Path, measurement: Measurement, document: dict[str, object]) -> float:
    """Seconds to render a clip by a document; the file lies beside it."""
    info, times = probe(clip, Asked(camera="sphere"))
    treatment = Treatment.from_json(document)
    path = solve_sphere(measurement, treatment)
    return render_clip(clip, info, times, path, treatment, clip.with_name("out.mp4")).seconds


def copied(clip: Path, size: Size) -> float:
    """Seconds to decode a film and encode it again, its pictures made smaller where that is asked."""
    began = time.perf_counter()
    with av.open(str(clip)) as source, av.open(str(clip.with_name("copy.mp4")), "w") as out:
        source.streams.video[0].thread_type = "AUTO"
        stream = out.add_stream("libx264", rate=30, options={"crf": "18"})
        stream.width, stream.height, stream.pix_fmt = size.width, size.height, "yuv420p"
        for frame in source.decode(video=0):
            out.mux(stream.encode(frame.reformat(size.width, size.height)))
        out.mux(stream.encode(None))
    return time.perf_counter() - began


def corners_move(clip: Path) -> float:
    """How far a frame's corners move in a film that should stand still, px RMS."""
    info, times = probe(clip, Asked(camera="frame"))
    poses = measure_clip(clip, info, times, 0, info.frames - 1).poses
    places = poses.apply(info.display.corners() @ np.array([1, 1j]))
    return float(np.sqrt((np.abs(places - places.mean(0)) ** 2).mean()))


def main() -> None:
    """Print figures."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("pictures", nargs=6, type=Path)
    parser.add_argument("--width", type=int, default=1920)
    parser.add_argument("--frames", type=int, default=150)
    options = parser.parse_args()
    size = Size(options.width, options.width // 2)
    world = CubeWorld.of([cv2.imread(str(path)) for path in options.pictures], options.width // 2)
    true = rocking(options.frames, seed=1, heading=60 * 30 / options.frames)
    for carried in (0.0, CARRIED):
        film = SphereFilm(world, Sphere(size), true).pictures(carried)
        told(f"turning, {carried:.0%} carried along", measured(film, size), true)
    slow = rocking(options.frames, seed=4, degrees=0.05, heading=1.0)
    told("hardly turning, carried along", measured(SphereFilm(world, Sphere(size), slow).pictures(CARRIED), size), slow)

    with tempfile.TemporaryDirectory() as folder:
        clip = Path(folder) / "film.mp4"
        write_pictures(SphereFilm(world, Sphere(size), true).pictures(), size, 30, clip, 16)
        info, times = probe(clip, Asked(camera="sphere"))
        began = time.perf_counter()
        measurement = measure_clip(clip, info, times, 0, info.frames - 1)
        seconds = time.perf_counter() - began
        told("from a file, crf 16", measurement, true)
        print(f"measuring: {decoding(clip) / seconds:.2f} of the rate of bare decoding", flush=True)
        hold = {"motion": {"intent": "hold"}}
        print(f"sphere to sphere: {delivered(clip, measurement, hold) / copied(clip, size):.2f} x plain transcoding")
        held, _ = probe(clip.with_name("out.mp4"))
        again = measure_clip(clip.with_name("out.mp4"), held, times, 0, held.frames - 1)
        left = sphere_turns(again, Sphere(size)).rotations
        left = (left.mean().inv() * left).magnitude() * Sphere(size).px_per_rad
        print(f"held still to {np.sqrt((left**2).mean()):.3f} px RMS", flush=True)
        view = {"output": "flat", "size": {"width": 1920, "height": 1080}, "keys": [{"frame": 0, "yaw_deg": 30}]}
        looked = delivered(clip, measurement, hold | {"view": view})
        print(f"1080p view: {looked / copied(clip, Size(1920, 1080)):.2f} x plain decoding and encoding", flush=True)
        print(f"held still in it to {corners_move(clip.with_name('out.mp4')):.3f} px RMS at its corners", flush=True)

    levels(size)
    goers(options.pictures)


def goers(paths: list[Path]) -> None:
    """How well turns are told while something large goes by: half of the pictures on it, the others all around."""
    pictures = [cv2.imread(str(path)) for path in paths]
    world, other = (CubeWorld.of(half * 2, SMALL.height) for half in (pictures[:3], pictures[3:]))
    stood = rocking(GOING_FRAMES)
    for step_deg in (0.2, 0.7, 4.0):
        for radius_deg in (45, 60, 72):
            walk = going_round(37.0, step_deg)
            film = gone_by(world, other, walk, radius_deg=radius_deg, growth=0.002, stood=stood)
            share = (1 - np.cos(np.radians(radius_deg))) / 2
            measurement = measured(picture for picture, _ in film)
            told(f"{share:.0%} of all around goes by, {step_deg} degrees a frame", measurement, stood)


def levels(size: Size) -> None:
    """How far up is told off, by the painted harbour's horizon and by streets without one."""
    harbours = [("harbour", harbour(), seed, degrees) for seed, degrees in ((1, 3.0), (2, 8.0))]
    streets = [
        (f"street {seed}, grain of {grain} levels", street(seed, grain), seed, 4.0)
        for grain in (5, 15)
        for seed in range(3, 11)
    ]
    for name, world, seed, degrees in harbours + streets:
        true = rocking(60, seed=seed, degrees=degrees)
        measurement = measured(SphereFilm(world, Sphere(size), true).pictures(), size)
        found = find_vertical(measurement.uprights, sphere_turns(measurement, Sphere(size)).rotations)
        off = np.degrees(np.arccos(found.up @ true[0].inv().apply([0, -1, 0])))
        told = f"said {found.doubt:.3f}" if found.enough else "not told"
        print(f"level, {name}, rocking by {degrees:.0f} degrees: {off:.3f} degrees off, {told}", flush=True)


if __name__ == "__main__":
    main()
