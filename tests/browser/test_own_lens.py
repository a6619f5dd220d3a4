"""A clip that pans behind a wide lens: measured as it arrives, its lens is found by its motion, offered, and taken."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from accessibility import violations
from glass import RULED_LENS as LENS
from glass import RULED_SIZE as SIZE
from glass import rays_of, straight_things
from playwright.sync_api import Page, expect
from scipy.spatial.transform import Rotation
from spheres import cube
from steps import bring_in, draft_of, open_bench, start_project, to_optics
from truth import encoded

from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.straightedges import judged

FRAMES = 44
PAN_DEG = 22


def panned() -> Iterator[np.ndarray]:
    """A world of noise that a hand pans over behind the lens."""
    world = cube()
    x, y = np.meshgrid(np.arange(SIZE.width, dtype=float), np.arange(SIZE.height, dtype=float))
    rays = rays_of(LENS, np.stack([x.ravel(), y.ravel()], -1), SIZE)
    for frame in range(FRAMES):
        sway = 1.5 * np.sin(0.31 * frame), 0.8 * np.sin(0.23 * frame + 1)
        turned = Rotation.from_euler("YXZ", (PAN_DEG * frame / FRAMES, *sway), degrees=True).apply(rays)
        yield world.seen(turned.reshape(SIZE.height, SIZE.width, 3))


@pytest.fixture(scope="module")
def panning(ffmpeg: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The pan as a file."""
    path = tmp_path_factory.mktemp("pan") / "pan.mp4"
    return encoded(ffmpeg, path, panned(), 25, "-c:v", "libx264", "-crf", 14, "-pix_fmt", "yuv420p")


def test_a_lens_that_the_motion_tells_is_offered_and_taken(page: Page, panning: Path) -> None:
    start_project(page, measures=True)
    bring_in(page, panning)
    open_bench(page, panning.name)
    to_optics(page)
    state = page.get_by_role("status", name="Bent lines")
    expect(state).to_contain_text("a lens is found", timeout=60_000)
    assert draft_of(page)["optics"]["lens"] is None
    expect(page.get_by_text("The camera's motion")).to_contain_text("confidence")
    assert violations(page) == []
    page.get_by_role("button", name="Take what was found").click()
    expect(state).to_contain_text("keeps")
    optics = draft_of(page)["optics"]
    found = Lens(
        optics["lens"]["family"],
        tuple(optics["lens"]["coefficients"]),
        complex(optics["lens"]["centre_x"], optics["lens"]["centre_y"]),
    )
    lines = straight_things(LENS, 30, np.random.default_rng(1), size=SIZE)
    left, shot = (np.array(judged(lens, lines, SIZE).residuals) for lens in (found, Lens("division", (0.0,))))
    print(f"{left.mean():.2f} px of {shot.mean():.2f}")
    assert left.mean() < 0.1 * shot.mean()
    assert found.kind.angular or optics["focal"] == pytest.approx(LENS.k[0] ** -0.5, rel=0.03)
    page.reload()
    expect(page.locator("[data-stage=optics]")).not_to_contain_text("no lens")
