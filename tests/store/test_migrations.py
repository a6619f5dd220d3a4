"""Databases of earlier versions are brought to today's, with all that they hold."""

from __future__ import annotations

import json

from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from services import throw_away_cluster
from sqlalchemy import text

from keen_horizon.core.treatment.motion import Mark
from keen_horizon.operations.findings import LENS, MOTION, covering, the_pin
from keen_horizon.pipeline.pinning import mark_key
from keen_horizon.store.database import MIGRATIONS, connect, transaction
from keen_horizon.store.models import Base, Clip

MARKS = (Mark(frame=3, x=10.0, y=20.5), Mark(frame=9, x=11.0, y=21.0))
READ_OTHERWISE = {"reading": {"first_field": "top", "every_field": True, "rate": None}}
ROWS = f"""
INSERT INTO project (id, name, created_at) VALUES (1, 'Harbour', now());
INSERT INTO clip (id, project_id, name, state, digest, bytes, info, created_at)
    VALUES (1, 1, 'quay.mp4', 'ready', 'aa', 5, '{{}}', now()),
           (2, 1, 'old.mts', 'ready', 'bb', 5, '{json.dumps(READ_OTHERWISE)}', now());
INSERT INTO measured_range (clip_id, source_digest, first, last, key, shake_percent, blind_pairs, cuts, created_at)
    VALUES (1, 'aa', 0, 99, 'm1', 0.25, 2, 1, now()), (1, 'aa', 0, 300, 'm2', 0.5, 0, 0, now());
INSERT INTO pin_track (clip_id, marks, source_digest, first, last, key, lost, created_at)
    VALUES (1, '{mark_key(MARKS)}', 'aa', 0, 99, 'p1', 7, now());
INSERT INTO flat_track (clip_id, marks, source_digest, first, last, key, lost, created_at)
    VALUES (1, 'abc', 'aa', 0, 99, 'f1', 3, now());
INSERT INTO work (kind, clip_id, first, last, state, stop_wanted, done, total, rate, priority, details, created_at)
    VALUES ('lens', 2, 0, 9, 'done', false, 0, 0, 0, 0, '{{"confidence": 0.5}}', now()),
           ('lens', 2, 0, 9, 'done', false, 0, 0, 0, 0, '{{"confidence": 0.9}}', now()),
           ('lens', 1, 0, 9, 'failed', false, 0, 0, 0, 0, NULL, now());
"""


def test_what_was_found_under_the_former_tables_is_found() -> None:
    with throw_away_cluster() as cluster:
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        config.attributes["url"] = cluster.url
        engine = connect(cluster.url)
        command.downgrade(config, "0010")
        with transaction(engine) as session:
            for statement in ROWS.split(";\n"):
                session.execute(text(statement)) if statement.strip() else None
        command.upgrade(config, "head")
        command.downgrade(config, "0010")  # and back: nothing is lost either way
        command.upgrade(config, "head")
        with transaction(engine) as session:
            clip, other = session.get_one(Clip, 1), session.get_one(Clip, 2)
            found = covering(session, clip, MOTION, 5, 50)
            assert (found.last, found.key, found.facts) == (
                99,
                "m1",
                {"shake_percent": 0.25, "blind_pairs": 2, "cuts": 1},
            )
            assert covering(session, clip, MOTION, 5, 150).key == "m2"
            point = type("Point", (), {"marks": MARKS, "model_dump": lambda self, mode: {}})()
            assert covering(session, clip, the_pin(point), 0, 99).facts == {"marks": mark_key(MARKS), "lost": 7}
            assert [(flat.name, flat.key, flat.facts) for flat in clip.found("flat")] == [("abc", "f1", {"lost": 3})]
            assert covering(session, other, LENS, 0, 9).facts == {"confidence": 0.9}
            assert clip.found("lens") == []
            context = MigrationContext.configure(session.connection())
            steps = compare_metadata(context, Base.metadata)
            apart = [step for step in map(str, steps) if "procrastinate" not in step]
        assert apart == []
        engine.dispose()
