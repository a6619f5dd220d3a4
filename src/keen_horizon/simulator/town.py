"""Port Merrow: a quay with terraces, warehouses, a crane, a lighthouse and hills, as coloured patches.

World axes are the camera's: x right, y down, z forward, in metres; the sea lies at y = 0.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Colour = tuple[float, float, float]

SUN = np.array([-0.45, -0.75, -0.48])
PLASTER: list[Colour] = [
    (214, 222, 229), (176, 205, 226), (150, 178, 214), (196, 190, 168), (160, 172, 150),
    (188, 168, 150), (138, 148, 190), (205, 214, 205), (120, 158, 200),
]  # fmt: skip
SHOPS: list[Colour] = [(96, 70, 52), (58, 84, 62), (52, 54, 112), (70, 74, 80), (58, 104, 128)]
ROOFS: list[Colour] = [(78, 84, 142), (88, 92, 96), (70, 76, 118), (96, 98, 108), (64, 70, 92)]


@dataclass(frozen=True)
class Patch:
    """A flat polygon (K, 3) with a BGR colour, already lit; `grain` is the strength of its texture.

    With a `normal` it is seen from that side only.
    """

    points: Floats
    colour: Colour
    grain: float = 1.0
    normal: Floats | None = None


@dataclass(frozen=True)
class Thing:
    """Patches that are painted together, in order; things are painted far to near by `distance`."""

    patches: list[Patch]
    distance: float


def build_town(seed: int = 7) -> list[Thing]:
    """Everything that stands on the land, far to near."""
    random = np.random.default_rng(seed)
    things = [_ground(), *_terraces(random), *_warehouses(random)]
    things += [_lighthouse(np.array([118.0, 0.0, 92.0])), _crane(np.array([-74.0, -4.0, 72.0])), _church(random)]
    things += [_quay(), *_lamps(), *_boats(random)]
    return sorted(things, key=lambda thing: -thing.distance)


def lit(colour: Colour, normal: Floats) -> Colour:
    """A colour on a face with an outward normal, under the sun and a soft sky."""
    direct = max(0.0, float(normal @ SUN / np.linalg.norm(SUN)))
    shade = 0.62 + 0.46 * direct
    b, g, r = (min(255.0, channel * shade) for channel in colour)
    return b * (1.06 - 0.08 * direct), g, min(255.0, r * (0.97 + 0.06 * direct))


def wall(a: Floats, b: Floats, top: float, colour: Colour) -> Patch:
    """An upright rectangle from ground points `a` to `b` (seen with a on the left), `top` metres high."""
    normal = outward(a, b)
    up = np.array([0.0, -top, 0.0])
    return Patch(np.array([a, b, b + up, a + up]), lit(colour, normal), normal=normal)


def outward(a: Floats, b: Floats) -> Floats:
    """The direction (3,) that an upright wall faces, seen with a on the left."""
    along = b - a
    return np.array([along[2], 0.0, -along[0]]) / max(1e-9, float(np.hypot(along[0], along[2])))


def on_wall(a: Floats, b: Floats, left: float, low: float, wide: float, high: float, colour: Colour) -> Patch:
    """A rectangle on the wall from a to b, `left` metres along and `low` metres up."""
    along = (b - a) / np.linalg.norm(b - a)
    base = a + along * left + np.array([0, -low, 0])
    right, up = along * wide, np.array([0, -high, 0])
    return Patch(np.array([base, base + right, base + right + up, base + up]), colour, 0.4, outward(a, b))


def house(
    random: np.random.Generator, corner: Floats, wide: float, deep: float, high: float, turn: float,
    colour: Colour, storey: float = 3.1, shop: bool = True,
) -> Thing:  # fmt: skip
    """A house with a pitched roof and windows on its front and sides."""
    right = np.array([np.cos(turn), 0, np.sin(turn)])
    back = np.array([-np.sin(turn), 0, np.cos(turn)])
    a, b = corner, corner + right * wide
    c, d = b + back * deep, a + back * deep
    ridge = high + min(4.5, 0.42 * deep)
    patches = [wall(d, a, high, colour), wall(b, c, high, colour)]
    for left, far in ((a, d), (b, c)):
        gable = np.array([left, far, (left + far) / 2])
        gable[:2, 1] -= high
        gable[2, 1] -= ridge
        patches.append(Patch(gable, lit(colour, -right if left is a else right)))
    patches.append(wall(a, b, high, colour))
    patches += _windows(random, a, b, wide, high, storey, shop)
    patches += _windows(random, d, a, deep, high, storey, False) + _windows(random, b, c, deep, high, storey, False)
    patches += _roof(random, a, b, c, d, high, ridge, right, back)
    return Thing(patches, float(np.linalg.norm((a + b) / 2 + back)))


def _roof(
    random: np.random.Generator, a: Floats, b: Floats, c: Floats, d: Floats, high: float, ridge: float,
    right: Floats, back: Floats,
) -> list[Patch]:  # fmt: skip
    colour = ROOFS[random.integers(len(ROOFS))]
    up, top = np.array([0, -high, 0]), np.array([0, -ridge, 0])
    left_ridge, right_ridge = (a + d) / 2 + top - right * 0.3, (b + c) / 2 + top + right * 0.3
    eave = 0.35
    front = np.array([a + up - back * eave - right * 0.3, b + up - back * eave + right * 0.3, right_ridge, left_ridge])
    rear = np.array([c + up + back * eave + right * 0.3, d + up + back * eave - right * 0.3, left_ridge, right_ridge])
    patches = [
        Patch(rear, lit(colour, np.array([0, -0.75, 0]) + back * 0.6), 1.6),
        Patch(front, lit(colour, np.array([0, -0.75, 0]) - back * 0.6), 1.6),
    ]
    for step in np.arange(0.12, 1, 0.12):  # courses of tiles
        p = front[0] + (front[3] - front[0]) * step
        q = front[1] + (front[2] - front[1]) * step
        thin = (front[3] - front[0]) * 0.012
        patches.append(Patch(np.array([p, q, q + thin, p + thin]), tuple(0.82 * v for v in patches[1].colour), 0.5))
    at = front[3] + (front[2] - front[3]) * random.uniform(0.15, 0.85) + np.array([0, 0.8, 0])
    brick: Colour = (70, 84, 128)
    chimney_left, chimney_right = at - right * 0.55, at + right * 0.55
    patches.append(wall(chimney_left, chimney_right, 2.3, brick))
    patches.append(wall(chimney_right, chimney_right + back * 0.9, 2.3, brick))
    for pot in (-0.3, 0.25):
        foot = at + right * pot + np.array([0, -2.3, 0])
        patches.append(wall(foot, foot + right * 0.28, 0.6, (80, 110, 170)))
    return patches


def _windows(
    random: np.random.Generator, a: Floats, b: Floats, wide: float, high: float, storey: float, shop: bool
) -> list[Patch]:
    patches: list[Patch] = []
    columns = max(1, int(wide / 2.3))
    gap = wide / columns
    for level in range(int(high / storey)):
        for column in range(columns):
            left, low = gap * column + gap / 2 - 0.55, level * storey + 0.9
            if level == 0 and shop:
                shade = SHOPS[random.integers(len(SHOPS))]
                patches.append(on_wall(a, b, gap * column + 0.25, 0.1, gap - 0.5, 2.5, shade))
                patches.append(on_wall(a, b, gap * column + 0.5, 0.5, gap - 1.0, 1.5, (96, 84, 70)))
                continue
            light = random.uniform(0.6, 1.25)
            glass = (118 * light, 100 * light, 82 * light)
            patches.append(on_wall(a, b, left - 0.12, low - 0.12, 1.34, 1.84, (232, 236, 238)))
            patches.append(on_wall(a, b, left, low, 1.1, 1.6, glass))
            patches.append(on_wall(a, b, left + 0.51, low, 0.09, 1.6, (226, 230, 232)))
            patches.append(on_wall(a, b, left, low + 0.76, 1.1, 0.09, (226, 230, 232)))
    return patches


def _terraces(random: np.random.Generator) -> list[Thing]:
    things = []
    for row, (z, base, count) in enumerate(((84.0, -4.0, 15), (112.0, -9.0, 20), (142.0, -16.0, 24), (176, -24, 28))):
        x = -52.0 - 26 * row + random.uniform(0, 6)
        for _ in range(count):
            wide = random.uniform(6.0, 10.5)
            high = 3.1 * random.integers(2, 5) + random.uniform(0, 0.8)
            colour = PLASTER[random.integers(len(PLASTER))]
            corner = np.array([x, base, z + random.uniform(-1.5, 1.5) + 0.0022 * x * x])
            things.append(house(random, corner, wide, 9.0, high, 0.0045 * x, colour, shop=row == 0))
            x += wide + (random.uniform(2, 6) if random.random() < 0.18 else 0.0)
    return things


def _warehouses(random: np.random.Generator) -> list[Thing]:
    brick: Colour = (74, 92, 146)
    things = []
    for i, x in enumerate((-132.0, -112.0, -93.0)):
        corner = np.array([x, -4.0, 62.0 + 5 * i])
        things.append(house(random, corner, 17.0, 22.0, 13.5, 0.38 - 0.06 * i, brick, storey=4.2, shop=False))
    return things


def _ground() -> Thing:
    stone: Colour = (132, 140, 146)
    patches = []
    grass: Colour = (92, 128, 112)
    steps = (
        (64.0, -4.0, stone),
        (78.0, -8.0, grass),
        (108.0, -13.0, grass),
        (142.0, -21.0, grass),
        (181.0, -27.0, grass),
    )
    for z, y, colour in steps:
        quad = np.array([[-300, y, z], [260, y, z], [300, y - 6, z + 90], [-340, y - 6, z + 90]])
        patches.append(Patch(quad, lit(colour, np.array([0, -1.0, 0])), 2))
    return Thing(patches[::-1], 1e4)


def _quay() -> Thing:
    left, right = np.array([-150.0, 0.0, 66.0]), np.array([95.0, 0.0, 66.0])
    patches = [wall(left, right, 4.0, (104, 118, 128))]
    for course in range(8):  # courses of stone, with staggered joints
        low = 0.5 * course
        patches.append(on_wall(left, right, 0, low, 245, 0.05, (78, 88, 96)))
        for joint in np.arange(0.6 * (course % 2), 245, 1.2):
            patches.append(on_wall(left, right, joint, low, 0.05, 0.5, (82, 92, 100)))
    patches.append(on_wall(left, right, 0, 0, 245, 0.9, (58, 74, 66)))
    patches.append(on_wall(left, right, 0, 4.0, 245, 0.25, (168, 176, 182)))
    for post in np.arange(0, 245, 2.0):  # the railing
        patches.append(on_wall(left, right, post, 4.2, 0.07, 1.1, (64, 60, 56)))
    for bar in (4.6, 5.0, 5.3):
        patches.append(on_wall(left, right, 0, bar, 245, 0.05, (64, 60, 56)))
    return Thing(patches, 66.0)


def _lamps() -> list[Thing]:
    things = []
    for x in np.arange(-140, 95, 16.0):
        foot = np.array([x, -4.0, 67.0])
        side = np.array([1.0, 0, 0])
        patches = [
            wall(foot - side * 0.09, foot + side * 0.09, 5.2, (60, 58, 52)),
            wall(foot - side * 0.3 + [0, -5.2, 0], foot + side * 0.3 + [0, -5.2, 0], 0.7, (190, 226, 240)),
            wall(foot - side * 0.38 + [0, -5.9, 0], foot + side * 0.38 + [0, -5.9, 0], 0.14, (52, 50, 46)),
        ]
        things.append(Thing(patches, 66.5))
    return things


def _lighthouse(foot: Floats) -> Thing:
    patches = [wall(foot + [-14, 0, -2], foot + [26, 0, -2], 3.2, (112, 124, 132))]
    side = np.array([1.0, 0, 0])
    base = foot + [0, -3.2, 0]
    for band in range(6):
        low, high = 3.6 * band, 3.6 * (band + 1)
        wide, narrow = 2.9 - 0.2 * band, 2.9 - 0.2 * (band + 1)
        colour: Colour = (60, 62, 190) if band % 2 else (232, 236, 238)
        for part, shade in enumerate((1.0, 1.04, 0.98, 0.86, 0.7)):
            l0, l1 = -1 + 0.4 * part, -0.6 + 0.4 * part
            quad = np.array([
                base + side * wide * l0 + [0, -low, 0], base + side * wide * l1 + [0, -low, 0],
                base + side * narrow * l1 + [0, -high, 0], base + side * narrow * l0 + [0, -high, 0],
            ])  # fmt: skip
            patches.append(Patch(quad, tuple(min(255.0, v * shade) for v in colour), 0.6))
    top = base + [0, -21.6, 0]
    patches.append(wall(top - side * 2.3, top + side * 2.3, 0.5, (70, 66, 62)))
    patches.append(wall(top - side * 1.2 + [0, -0.5, 0], top + side * 1.2 + [0, -0.5, 0], 2.2, (170, 224, 240)))
    cap = np.array([top + [-1.6, -2.7, 0], top + [1.6, -2.7, 0], top + [0, -4.6, 0]])
    patches.append(Patch(cap, (58, 60, 150)))
    return Thing(patches, float(np.linalg.norm(foot)))


def _crane(foot: Floats) -> Thing:
    steel: Colour = (48, 128, 208)
    patches = []
    side = np.array([1.0, 0, 0])
    for leg in (-3.0, 3.0):
        patches.append(wall(foot + side * (leg - 0.35), foot + side * (leg + 0.35), 17, steel))
    for level in np.arange(2, 16, 3.5):
        for a, b in ((-3, 3), (3, -3)):
            p, q = foot + [a, -level, 0], foot + [b, -level - 3.5, 0]
            patches.append(Patch(np.array([p, p + [0.3, 0, 0], q + [0.3, 0, 0], q]), steel))
    cab = foot + [-3.5, -17, 0]
    patches.append(wall(cab, cab + side * 7, 4.2, (206, 212, 214)))
    patches.append(on_wall(cab, cab + side * 7, 0.6, 1.6, 2.6, 1.7, (96, 84, 66)))
    root, tip = foot + [2.0, -20, 0], foot + [27.0, -38, 0]
    for offset in (0.0, 1.6):
        patches.append(Patch(np.array([root, root + [0, -0.4, 0], tip + [0, -0.4, 0], tip]) + [0, -offset, 0], steel))
    for step in np.linspace(0, 1, 15):
        p = root + (tip - root) * step
        q = root + (tip - root) * min(1.0, step + 0.06) + [0, -1.6, 0]
        patches.append(Patch(np.array([p, p + [0.25, 0, 0], q + [0.25, 0, 0], q]), steel))
    patches.append(wall(tip - [0.05, -20, 0], tip + [0.05, 20, 0], 20, (50, 50, 50)))
    return Thing(patches, float(np.linalg.norm(foot)))


def _church(random: np.random.Generator) -> Thing:
    stone: Colour = (158, 172, 182)
    foot = np.array([22.0, -24.0, 168.0])
    side, back = np.array([1.0, 0, 0]), np.array([0, 0, 7.0])
    patches = [wall(foot, foot + side * 7, 26, stone), wall(foot + side * 7, foot + side * 7 + back, 26, stone)]
    for level in (8.0, 15.0, 20.5):
        for left in (1.4, 4.3):
            patches.append(on_wall(foot, foot + side * 7, left, level, 1.3, 3.0, (84, 80, 78)))
    spire = np.array([foot + [-0.3, -26, 0], foot + [7.3, -26, 0], foot + [3.5, -43, 3.5]])
    patches.append(Patch(spire, (104, 118, 92)))
    nave = house(random, foot + [7.0, 0, 1.0], 24.0, 10.0, 11.0, 0.0, stone, storey=9.0, shop=False)
    return Thing(nave.patches + patches, float(np.linalg.norm(foot)) - 6)


def _boats(random: np.random.Generator) -> list[Thing]:
    hulls: list[Colour] = [(226, 230, 232), (128, 70, 44), (60, 62, 168), (96, 128, 64), (40, 46, 58), (90, 190, 226)]
    things = []
    for _ in range(26):
        x, z = random.uniform(-120, 100), random.uniform(34, 63)
        length = random.uniform(5.0, 11.0)
        things.append(boat(random, np.array([x, 0.0, z]), length, hulls[random.integers(len(hulls))]))
    return things


def boat(random: np.random.Generator, at: Floats, length: float, hull: Colour) -> Thing:
    """A moored boat seen from the side: hull, stripe, cabin, mast with stays and a furled sail."""
    high = 0.13 * length
    body = np.array([
        [0.06, 0.0], [0.9, 0.0], [1.0, -1.0], [0.5, -0.78], [0.0, -0.9],
    ]) * [length, high]  # fmt: skip
    patches = [_flat(at, body, lit(hull, np.array([0, -0.3, -1.0])))]
    patches.append(_flat(at, np.array([[0.05, -0.35], [0.95, -0.35], [0.96, -0.5], [0.04, -0.5]]) * [length, high],
                         (230, 234, 236)))  # fmt: skip
    patches.append(_flat(at, np.array([[0.06, 0.0], [0.9, 0.0], [0.86, 0.55], [0.12, 0.55]]) * [length, high],
                         (96, 92, 66)))  # fmt: skip
    cabin = np.array([[0.3, -0.8], [0.68, -0.8], [0.62, -1.7], [0.34, -1.7]]) * [length, high]
    patches.append(_flat(at, cabin, (222, 228, 230)))
    for window in (0.38, 0.47, 0.55):
        pane = np.array([[window, -1.1], [window + 0.05, -1.1], [window + 0.05, -1.45], [window, -1.45]])
        patches.append(_flat(at, pane * [length, high], (92, 78, 58)))
    if random.random() < 0.75:
        tall = 1.25 * length
        mast = 0.46 * length
        tapered = [[mast, -high], [mast + 0.14, -high], [mast + 0.12, -tall], [mast + 0.02, -tall]]
        patches.append(_flat(at, np.array(tapered), (206, 212, 216)))
        for end in (0.02 * length, 0.98 * length):
            stay = np.array([[end, -high], [end + 0.05, -high], [mast + 0.07, -tall], [mast + 0.02, -tall]])
            patches.append(_flat(at, stay, (110, 112, 112)))
        boom = np.array([[mast - 0.36 * length, -2.0 * high], [mast, -2.1 * high], [mast, -2.45 * high],
                         [mast - 0.36 * length, -2.25 * high]])  # fmt: skip
        patches.append(_flat(at, boom, (150, 110, 70)))
    return Thing(patches, float(np.linalg.norm(at)))


def _flat(at: Floats, outline: Floats, colour: Colour) -> Patch:
    points = np.concatenate([outline, np.zeros((len(outline), 1))], axis=1)
    return Patch(points + at, colour, 0.6)
