"""The demo project: its clips are measured, and what the glass of one does is found and shown."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from services import wait_for, working
from sqlalchemy.orm import Session
from truth import SMALL

from keen_horizon.config import Settings
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.demo import demo_project, measure_demo_glass, show_demo_glass
from keen_horizon.operations.findings import FRINGE
from keen_horizon.operations.treating import request_glass
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.light import darkened
from keen_horizon.simulator.plane import shaken_pictures
from keen_horizon.store.database import connect, transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Work

FRAMES = 70
HOOD = DeadEdge(0.86, 0.03 - 0.02j, softness=0.03)


def test_what_the_glass_does_is_measured_and_shown(settings: Settings, media: Path) -> None:
    film = media / "lighthouse_04.mp4"
    way = np.linspace(0, 2 * np.pi, FRAMES)
    poses = Similarities(np.ones(FRAMES, complex), 120 * np.sin(way) + 60j * np.sin(2 * way))
    write_pictures(darkened(shaken_pictures(poses, SMALL), SMALL, Falloff((-0.4,)), dead=HOOD), SMALL, 30, film, 16)
    engine, files = connect(settings.database_url), FileStore(settings.data, settings.media)

    def at_rest() -> bool:
        with transaction(engine) as session:
            return not any(work.state.open for work in session.query(Work))

    with transaction(engine) as session:
        demo_project(session, files, [film])

    def colours_too(session: Session) -> None:
        clip = session.query(Clip).one()
        request_glass(session, clip, Treatment.from_json(clip.draft or {}), FRINGE)

    with working(settings):
        for done in ((measure_demo_glass, colours_too), (show_demo_glass,)):
            wait_for(at_rest)
            with transaction(engine) as session:
                for each in done:
                    each(session)
    with transaction(engine) as session:
        asked = session.query(Work).filter_by(kind="fringe").one()
        (found,) = session.query(Clip).one().found("fringe")
        assert asked.started_at is not None
        assert found.created_at < asked.started_at  # along with the light: the clip is read once
    with transaction(engine) as session:
        clip = session.query(Clip).one()
        treatment = Treatment.from_json(clip.draft or {})
        assert clip.versions[0].treatment == clip.draft
    engine.dispose()
    falloff, fringe = treatment.optics.falloff, treatment.optics.fringe
    assert falloff is not None
    assert falloff.dead_edge is not None
    assert falloff.dead_edge.radius == pytest.approx(0.86, abs=0.01)
    assert sum(falloff.coefficients) == pytest.approx(-0.4, abs=0.04)
    assert fringe is None  # so small a film does not tell
    assert treatment.motion.intent == "glide"
