"""What all tests share: clips made by the simulator, a throw-away database, an application."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from keen_horizon.config import Settings
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.simulator.film import add_sound, write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures
from keen_horizon.store.cluster import Cluster, start_cluster
from keen_horizon.store.database import connect, migrate, transaction
from keen_horizon.store.models import Base

SMALL = Size(640, 360)


@pytest.fixture(scope="session")
def media(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder for clips that tests share."""
    return tmp_path_factory.mktemp("media")


@pytest.fixture(scope="session")
def shaky(media: Path) -> tuple[Path, Similarities]:
    """A shaken clip of 90 frames with sound, 640x360, and its true poses picture_from_frame."""
    poses = jitter(90, SMALL, 6.0, seed=5)
    silent, clip = media / "silent.mp4", media / "shaky.mp4"
    write_pictures(shaken_pictures(poses, SMALL, noise=1.0), SMALL, 30, silent, quality=16)
    add_sound(silent, clip, 3.0, seed=1)
    return clip, poses


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    """A throw-away PostgreSQL cluster with the newest schema."""
    folder = Path(tempfile.mkdtemp(prefix="keen-horizon-test-", dir="/tmp"))
    folder.chmod(0o755)
    made = start_cluster(folder / "postgres", durable=False)
    migrate(made.url)
    yield made
    made.stop()
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def settings(cluster: Cluster, tmp_path: Path, media: Path) -> Settings:
    """Settings of a fresh application: empty tables, an empty data folder."""
    engine = connect(cluster.url)
    with transaction(engine) as session:
        for table in reversed(Base.metadata.sorted_tables):
            session.execute(table.delete())
        session.connection().exec_driver_sql("TRUNCATE procrastinate_jobs, procrastinate_workers CASCADE")
    engine.dispose()
    return Settings(data=tmp_path / "data", database_url=cluster.url, media=media)


@pytest.fixture(scope="session")
def ffmpeg() -> str:
    """Debian's ffmpeg, a second implementation to make odd files and to read ours."""
    path = shutil.which("ffmpeg")
    assert path, "bin/test installs ffmpeg"
    return path


def corner_errors(found: Similarities, true: Similarities, size: Size) -> np.ndarray:
    """Distances (N, 4) between the corners of a frame moved by two similarities."""
    corners = (size.corners() @ [1, 1j]).astype(complex)
    return np.abs(found.apply(corners) - true.apply(corners))


def pair_truth(poses: Similarities) -> Similarities:
    """next_from_this of poses reference_from_frame."""
    return poses[1:].inverse() @ poses[:-1]


def rms(values: np.ndarray) -> float:
    """Root of the mean square."""
    return float(np.sqrt((np.asarray(values) ** 2).mean()))


def run_ffmpeg(ffmpeg: str, *arguments: object) -> None:
    """Run ffmpeg, quietly, or fail with what it said."""
    command = [ffmpeg, "-y", "-v", "error", *(str(argument) for argument in arguments)]
    done = subprocess.run(command, capture_output=True, text=True, env=os.environ, check=False)
    assert done.returncode == 0, done.stderr
