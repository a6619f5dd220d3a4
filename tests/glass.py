"""Made-up lenses and straight things seen through them, for tests of the lens."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.picture import Size, transform
from keen_horizon.core.lens.calibration import Board
from keen_horizon.core.lens.doubt import doubt
from keen_horizon.core.lens.lens import Lens, fisheye_of
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.stage import keep_step
from keen_horizon.core.lens.straightedges import fit_lens
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement
from keen_horizon.core.path.camera_path import CameraPath

RULED_SIZE = Size(640, 360)
RULED_LENS = fisheye_of("equidistant", 120)
FULL_HD = Size(1920, 1080)


def random_lens(random: np.random.Generator) -> Lens:
    """A lens between 70 and 170 degrees from corner to corner, of any family, a moustache one among them."""
    centre = complex(*random.normal(0, 0.01, 2))
    kind = random.integers(6)
    if kind < 3:
        family = ("equidistant", "equisolid", "stereographic")[kind]
        return Lens(family, fisheye_of(family, random.uniform(70, 170)).k, centre)
    if kind == 3:
        return Lens("division", (random.uniform(-0.45, -0.05), random.uniform(-0.03, 0.03)), centre)
    if kind == 4:
        return Lens("polynomial", (random.uniform(-0.12, 0.1), random.uniform(0.0, 0.02)), centre)
    return Lens("inverse", (random.uniform(0.1, 0.25), random.uniform(-0.18, -0.1)), centre)


def straight_things(
    lens: Lens, count: int, random: np.random.Generator, points: int = 7, away: float = 0.0, size: Size = FULL_HD
) -> list[np.ndarray]:
    """Points (P, 2), exact, along `count` things that are straight in the world and long in the picture.

    They pass the middle at `away` half-diagonals or more: a line through the middle shows no bend, so nobody draws it.
    """
    lines: list[np.ndarray] = []
    while len(lines) < count:
        ends = random.uniform((40, 40), (size.width - 40, size.height - 40), (2, 2))
        along = ends[1] - ends[0]
        aside = ends[0] - (size.centre.real, size.centre.imag)
        length = np.hypot(*along)
        if (
            length < 0.6 * size.width
            or abs(along[0] * aside[1] - along[1] * aside[0]) < away * size.half_diagonal * length
        ):
            continue
        lines.append(seen_between(lens, ends, points, size))
    return lines


def seen_between(lens: Lens, ends: np.ndarray, points: int, size: Size) -> np.ndarray:
    """Points (P, 2) along what is straight in the world between two places (2, 2) of the picture."""
    rays = rays_of(lens, ends, size)
    share = np.linspace(0, 1, points)[:, None]
    return seen_at(lens, rays[0] * (1 - share) + rays[1] * share, size)


def drawn_where_asked(
    lens: Lens, lines: list[np.ndarray], random: np.random.Generator, most: int = 6
) -> list[np.ndarray]:
    """Further straightedges (8, 2), up to `most` in all, each near where `doubt` asks for one, set as roughly."""
    more: list[np.ndarray] = []
    while len(lines) + len(more) < most:
        drawn = lines + more
        found = doubt(fit_lens(drawn, FULL_HD), drawn, FULL_HD)
        if found is None or found.line is None:
            break
        ends = np.clip(found.line[[0, -1]] + random.uniform(-80, 80, (2, 2)), 10, (1909, 1069))
        more.append(seen_between(lens, ends, 8, FULL_HD) + random.normal(0, 0.7, (8, 2)))
    return more


def rays_of(lens: Lens, points: np.ndarray, size: Size) -> np.ndarray:
    offset = (points - (size.centre.real, size.centre.imag)) / size.half_diagonal - (lens.centre.real, lens.centre.imag)
    depth = lens.kind.depth(np.hypot(*offset.T), np.array(lens.k)) * axis_scale(lens)
    rays = np.column_stack([offset, depth])
    return rays / np.linalg.norm(rays, axis=1)[:, None]


def axis_scale(lens: Lens) -> float:
    """The focal length, half-diagonals: told by fisheyes only, taken as 1 for the others."""
    return float(lens.k[0] ** -0.5) if lens.kind.angular else 1.0


def shaking_camera(count: int, rms_deg: float, seed: int) -> Rotation:
    """Rotations (N,) world_from_camera of a camera that shakes smoothly about all its axes."""
    random = np.random.default_rng(seed)
    kernel = np.exp(-(np.arange(-6, 7) ** 2) / 8.0)
    kernel /= np.sqrt((kernel**2).sum())
    turns = [np.convolve(random.normal(0, rms_deg, count + 12), kernel, "valid") for _ in range(3)]
    return Rotation.from_euler("xyz", np.stack(turns, -1), degrees=True)


def rocking_camera(count: int) -> Rotation:
    """Rotations (N,) world_from_camera as of the demo's dinghy: 5.5 degrees of roll, 2.6 of pitch, a drift, jitter."""
    times, jitter = np.arange(count) / 30, shaking_camera(count, 0.4, seed=9)
    yaw, pitch = 1.0 * times, 2.6 * np.sin(2 * np.pi * 0.55 * times)
    roll = 5.5 * np.sin(2 * np.pi * 0.38 * times + 1)
    return Rotation.from_euler("YXZ", np.stack([yaw, pitch, roll], -1), degrees=True) * jitter


def corner_wobble(path: CameraPath, stage: OpticsStage | None, lens: Lens, turns: Rotation) -> float:
    """How far what stands at the output's corners strays, px RMS, from where a camera that only turns would show it.

    How it turns is told, frame by frame, by the middle of the output. The mean over time does not count.
    """
    size, middle = path.size, path.size.centre
    corners = np.array([[0.06, 0.11], [0.94, 0.11], [0.94, 0.89], [0.06, 0.89]]) * (size.width, size.height)
    near = np.stack([a.ravel() for a in np.meshgrid(np.linspace(-0.1, 0.1, 7), np.linspace(-0.15, 0.15, 5))], -1)
    near = near * (size.width, size.height) + (middle.real, middle.imag)
    strayed = []
    for frame, src_from_out in enumerate(path.matrices()):

        def source(points: np.ndarray, frame: int = frame) -> np.ndarray:
            return stage.points(frame, points) if stage else points

        def world(points: np.ndarray, frame: int = frame, matrix: np.ndarray = src_from_out) -> np.ndarray:
            return turns[frame].apply(rays_of(lens, source(transform(matrix, points)), size))

        camera, _ = Rotation.align_vectors(world(near), rays_of(lens, source(near), size))
        seen = seen_at(lens, camera.inv().apply(world(corners)), size)
        strayed.append((stage.straighten(frame, seen) if stage else seen) - corners)
    apart = np.array(strayed) - np.mean(strayed, 0)
    return float(np.sqrt((apart**2).sum(-1).mean()))


def seen_by_turning_camera(lens: Lens, turns: Rotation, size: Size) -> Measurement:
    """A measurement of which only the tracked points are told, those of a grid in every frame."""
    across, down = (np.linspace(30, side - 30, n) for side, n in ((size.width, 16), (size.height, 9)))
    grid = np.stack([a.ravel() for a in np.meshgrid(across, down)], -1)
    rays, count = rays_of(lens, grid, size), len(turns)

    def moved(first: int, later: int) -> np.ndarray:
        return seen_at(lens, (turns[later].inv() * turns[first]).apply(rays), size).astype(np.float32)

    anchored = np.array([(0, i) for i in range(2, count)])
    pairs = np.concatenate([moved(i, i + 1) for i in range(count - 1)])
    matches = Matches(
        anchored, np.arange(count - 1) * len(grid), np.tile(grid, (count - 2, 1)).astype(np.float32),
        np.concatenate([moved(0, i) for i in range(2, count)]),
    )  # fmt: skip
    evidence = Evidence(
        np.arange(count) * len(grid), np.tile(grid, (count - 1, 1)).astype(np.float32), np.ones(len(pairs), bool),
        pairs, matches,
    )  # fmt: skip
    return replace(Measurement.still(size, 0, np.arange(count) / 30), evidence=evidence)


def seen_at(lens: Lens, rays: np.ndarray, size: Size) -> np.ndarray:
    """Where rays (N, 3) fall: their radius found by halving, which works past 90 degrees too."""
    low, high = np.zeros(len(rays)), np.full(len(rays), 1.6)
    across = np.hypot(rays[:, 0], rays[:, 1])
    aside = np.arctan2(across, rays[:, 2])
    for _ in range(45):
        middle = (low + high) / 2
        depth = lens.kind.depth(middle, np.array(lens.k)) * axis_scale(lens)
        nearer = np.arctan2(middle, depth) < aside
        low, high = np.where(nearer, middle, low), np.where(nearer, high, middle)
    offset = rays[:, :2] / np.maximum(across, 1e-12)[:, None] * low[:, None]
    offset = offset + (lens.centre.real, lens.centre.imag)
    return offset * size.half_diagonal + (size.centre.real, size.centre.imag)


RULED_EVERY = 60


def ruled_picture(lens: Lens, size: Size) -> np.ndarray:
    """A picture (rows, columns, 3) of dark lines that are straight in the world, RULED_EVERY apart, through a lens."""
    x, y = np.meshgrid(np.arange(size.width, dtype=float), np.arange(size.height, dtype=float))
    straight = lens.straighten(np.stack([x.ravel(), y.ravel()], -1), size) - (size.centre.real, size.centre.imag)
    away = np.abs((straight / RULED_EVERY + 0.5) % 1 - 0.5).min(1) * RULED_EVERY
    shade = 210 - 160 * np.exp(-((away / 2.0) ** 2))
    return np.repeat(shade.reshape(size.height, size.width, 1), 3, -1).astype(np.uint8)


def bent_picture(straight: np.ndarray, lens: Lens) -> np.ndarray:
    """A straight picture as the lens would have shot it, made smaller where its corners would be empty."""
    size = Size(straight.shape[1], straight.shape[0])
    middle = np.array([size.centre.real, size.centre.imag])
    x, y = np.meshgrid(np.arange(size.width), np.arange(size.height))
    seen = lens.straighten(np.stack([x.ravel(), y.ravel()], -1).astype(float), size)
    places = ((seen - middle) / max(1.0, keep_step(lens, size)) + middle).astype(np.float32)
    across, down = (part.reshape(straight.shape[:2]) for part in places.T)
    return cv2.remap(straight, np.ascontiguousarray(across), np.ascontiguousarray(down), cv2.INTER_CUBIC)


def ruled_line(lens: Lens, size: Size, offset: int, points: int = 7) -> np.ndarray:
    """Where a level line `offset` spacings below the middle is seen, (P, 2)."""
    across = np.linspace(-0.42, 0.42, points) * size.width + size.centre.real
    level = np.full(points, size.centre.imag + offset * RULED_EVERY)
    return lens.bend(np.stack([across, level], -1), size)


def board_poses(count: int, seed: int) -> list[tuple[Rotation, np.ndarray]]:
    """Boards tilted this way and that, all over the picture."""
    random = np.random.default_rng(seed)
    return [
        (
            Rotation.from_euler("xyz", random.uniform(-35, 35, 3), degrees=True),
            np.array([random.uniform(-2.4, 2.4), random.uniform(-0.9, 0.9), random.uniform(7, 9)]),
        )
        for _ in range(count)
    ]


def filmed_board(
    lens: Lens, size: Size, board: Board, turn: Rotation, shift: np.ndarray, random: np.random.Generator
) -> np.ndarray:
    """The board as a camera with this lens sees it, each pixel the mean of four rays."""
    fine = Size(size.width * 2, size.height * 2)
    x, y = np.meshgrid((np.arange(fine.width) + 0.5) / 2 - 0.5, (np.arange(fine.height) + 0.5) / 2 - 0.5)
    rays = rays_of(lens, np.stack([x.ravel(), y.ravel()], -1), size)
    axes = turn.as_matrix()
    middle = shift - axes @ [(board.across - 1) / 2, (board.down - 1) / 2, 0]
    depth = (middle @ axes[:, 2]) / (rays @ axes[:, 2])
    places = (rays * depth[:, None] - middle) @ axes[:, :2]
    u, v = places.T
    inside = (u > -1.7) & (u < board.across + 0.7) & (v > -1.7) & (v < board.down + 0.7) & (depth > 0)
    if board.kind == "chessboard":
        on = (u > -1) & (u < board.across) & (v > -1) & (v < board.down)
        dark = on & ((np.floor(u) + np.floor(v)) % 2 == 0)
    else:
        on = (u > -0.5) & (u < board.across - 0.5) & (v > -0.5) & (v < board.down - 0.5)
        dark = on & (np.hypot(u - np.rint(u), v - np.rint(v)) < 0.25)
    shade = np.where(dark, 25.0, np.where(inside, 230.0, 110.0)).reshape(fine.height, fine.width)
    seen = cv2.resize(shade, (size.width, size.height), interpolation=cv2.INTER_AREA)
    return np.clip(seen + random.normal(0, 2, seen.shape), 0, 255).astype(np.uint8)
