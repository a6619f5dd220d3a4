"""What all tests share: clips made by the simulator, a throw-away database, an application."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import hypothesis
import pytest
from services import throw_away_cluster
from truth import SMALL
from xdist.scheduler import LoadScopeScheduling
from xdist.workermanage import WorkerController

from keen_horizon.config import Settings
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.simulator.film import add_sound, write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures
from keen_horizon.store.cluster import Cluster
from keen_horizon.store.database import connect, transaction
from keen_horizon.store.models import Base

hypothesis.settings.register_profile("untimed", deadline=None)  # a busy machine is no fault of what is tested
hypothesis.settings.load_profile("untimed")


class FromBothEnds(LoadScopeScheduling):
    """A file at a time: one process begins with the browser's, the others with the last; they meet in the middle.

    So a second browser starts only when all the rest is done, and no process idles long.
    """

    def _split_scope(self, nodeid: str) -> str:
        return nodeid.split("::")[0]

    def _assign_work_unit(self, node: WorkerController) -> None:
        ends = iter(self.workqueue) if node is self.nodes[0] else reversed(self.workqueue)
        self.workqueue.move_to_end(next(ends), last=False)
        super()._assign_work_unit(node)


def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> FromBothEnds:
    """How pytest-xdist shares the tests out."""
    config.option.loadscopereorder = False
    return FromBothEnds(config, log)


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    """What fails is told at once: a run that is ended from outside never comes to its list of failures."""
    if report.failed and "PYTEST_XDIST_WORKER" not in os.environ:
        print(f"\n{report.when} of {report.nodeid} failed:\n{report.longreprtext[-2000:]}")


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
    """The cluster that tests share."""
    with throw_away_cluster() as made:
        yield made


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
