"""one kind of row for whatever was found about a clip"""

import hashlib
import json

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"

COLUMNS = "clip_id, source_digest, first, last, key, created_at"
FORMER = (
    ("measured_range", "measure", "''",
     "jsonb_build_object('shake_percent', shake_percent, 'blind_pairs', blind_pairs, 'cuts', cuts)"),
    ("pin_track", "pin", "encode(sha256(convert_to(marks, 'UTF8')), 'hex')",
     "jsonb_build_object('marks', marks, 'lost', lost)"),
    ("flat_track", "flat", "marks", "jsonb_build_object('lost', lost)"),
)  # fmt: skip


def upgrade() -> None:
    op.create_table(
        "finding",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("clip_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(length=16), nullable=False),
        sa.Column("name", sa.String(length=64), nullable=False),
        sa.Column("source_digest", sa.String(length=64), nullable=False),
        sa.Column("first", sa.Integer(), nullable=False),
        sa.Column("last", sa.Integer(), nullable=False),
        sa.Column("key", sa.String(), nullable=True),
        sa.Column("facts", JSONB(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["clip_id"], ["clip.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("clip_id", "source_digest", "kind", "name", "first", "last"),
    )
    op.create_index(op.f("ix_finding_clip_id"), "finding", ["clip_id"])
    for table, kind, name, facts in FORMER:
        op.execute(
            f"INSERT INTO finding (kind, name, facts, {COLUMNS}) SELECT '{kind}', {name}, {facts}, {COLUMNS} "
            f"FROM {table} ORDER BY id"
        )
        op.drop_table(table)
    _keep_lenses()


def _keep_lenses() -> None:
    """The lens that a clip showed of itself stood in the work that looked for it; the newest of a range is kept."""
    bind = op.get_bind()
    looked = bind.execute(
        sa.text(
            "SELECT DISTINCT ON (work.clip_id, work.first, work.last) work.clip_id, clip.digest, clip.info, "
            "work.first, work.last, work.details, work.created_at FROM work JOIN clip ON clip.id = work.clip_id "
            "WHERE work.kind = 'lens' AND work.state = 'done' AND work.details IS NOT NULL AND clip.digest IS NOT NULL "
            "AND work.first IS NOT NULL ORDER BY work.clip_id, work.first, work.last, work.id DESC"
        )
    )
    for row in looked.mappings().all():
        bind.execute(
            sa.text(
                "INSERT INTO finding (clip_id, kind, name, source_digest, first, last, facts, created_at) "
                "VALUES (:clip_id, 'lens', '', :pictures, :first, :last, CAST(:facts AS jsonb), :created_at)"
            ),
            {**row, "pictures": _pictures(row["digest"], row["info"]), "facts": json.dumps(row["details"])},
        )


def _pictures(digest: str, info: dict | None) -> str:
    """As `Clip.pictures` told pictures apart when this was written."""
    reading = (info or {}).get("reading") or {}
    if not (reading.get("first_field") or reading.get("rate")):
        return digest
    told = f"{digest} {reading['first_field']} {reading['every_field']} {reading.get('rate')}"
    return hashlib.sha256(told.encode()).hexdigest()


def downgrade() -> None:
    for table, own in (
        ("measured_range", [("shake_percent", sa.Float()), ("blind_pairs", sa.Integer()), ("cuts", sa.Integer())]),
        ("pin_track", [("marks", sa.String()), ("lost", sa.Integer())]),
        ("flat_track", [("marks", sa.String(length=64)), ("lost", sa.Integer())]),
    ):
        named = ["marks"] if table != "measured_range" else []
        op.create_table(
            table,
            sa.Column("id", sa.Integer(), nullable=False),
            sa.Column("clip_id", sa.Integer(), nullable=False),
            sa.Column("source_digest", sa.String(length=64), nullable=False),
            sa.Column("first", sa.Integer(), nullable=False),
            sa.Column("last", sa.Integer(), nullable=False),
            sa.Column("key", sa.String(), nullable=False),
            *(sa.Column(name, kind, nullable=False) for name, kind in own),
            sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
            sa.ForeignKeyConstraint(["clip_id"], ["clip.id"], ondelete="CASCADE"),
            sa.PrimaryKeyConstraint("id"),
            sa.UniqueConstraint("clip_id", "source_digest", *named, "first", "last"),
        )
        op.create_index(op.f(f"ix_{table}_clip_id"), table, ["clip_id"])
        kind = {"measured_range": "measure", "pin_track": "pin", "flat_track": "flat"}[table]
        told = {"marks": "name" if table == "flat_track" else "facts ->> 'marks'"}
        values = [told.get(name, f"(facts ->> '{name}')::{'float' if name == 'shake_percent' else 'int'}")
                  for name, _ in own]  # fmt: skip
        names = ", ".join(name for name, _ in own)
        op.execute(
            f"INSERT INTO {table} ({names}, {COLUMNS}) SELECT {', '.join(values)}, {COLUMNS} "
            f"FROM finding WHERE kind = '{kind}' ORDER BY id"
        )
    op.drop_table("finding")
