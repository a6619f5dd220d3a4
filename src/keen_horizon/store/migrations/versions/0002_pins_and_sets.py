"""tracks of pinned points, starting points, comparisons, the order of work"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "pin_track",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("clip_id", sa.Integer(), nullable=False),
        sa.Column("marks", sa.String(), nullable=False),
        sa.Column("first", sa.Integer(), nullable=False),
        sa.Column("last", sa.Integer(), nullable=False),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("lost", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["clip_id"], ["clip.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("clip_id", "marks", "first", "last"),
    )
    op.create_index(op.f("ix_pin_track_clip_id"), "pin_track", ["clip_id"], unique=False)
    op.add_column("work", sa.Column("details", postgresql.JSONB(astext_type=sa.Text()), nullable=True))
    op.add_column("work", sa.Column("priority", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("render", sa.Column("versus", postgresql.JSONB(astext_type=sa.Text()), nullable=True))
    op.create_table(
        "starting_point",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("settings", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("shipped", sa.Boolean(), nullable=False),
        sa.Column("is_default", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
