"""first tables"""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(SchemaManager.get_schema())
    op.create_table(
        "project",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "clip",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=255), nullable=False),
        sa.Column("state", sa.String(length=16), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("source_key", sa.String(), nullable=True),
        sa.Column("source_path", sa.String(), nullable=True),
        sa.Column("digest", sa.String(length=64), nullable=True),
        sa.Column("bytes", sa.BigInteger(), nullable=False),
        sa.Column("info", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("proxy", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("proxy_key", sa.String(), nullable=True),
        sa.Column("thumbnails_key", sa.String(), nullable=True),
        sa.Column("times_key", sa.String(), nullable=True),
        sa.Column("draft", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("project_id", "digest"),
    )
    op.create_index(op.f("ix_clip_project_id"), "clip", ["project_id"], unique=False)
    op.create_table(
        "upload",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=255), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("fingerprint", sa.String(length=400), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_upload_fingerprint"), "upload", ["fingerprint"], unique=False)
    op.create_table(
        "measured_range",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("clip_id", sa.Integer(), nullable=False),
        sa.Column("first", sa.Integer(), nullable=False),
        sa.Column("last", sa.Integer(), nullable=False),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("shake_percent", sa.Double(), nullable=False),
        sa.Column("blind_pairs", sa.Integer(), nullable=False),
        sa.Column("cuts", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["clip_id"], ["clip.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("clip_id", "first", "last"),
    )
    op.create_index(op.f("ix_measured_range_clip_id"), "measured_range", ["clip_id"], unique=False)
    op.create_table(
        "render",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("clip_id", sa.Integer(), nullable=False),
        sa.Column("treatment", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("key", sa.String(), nullable=True),
        sa.Column("report", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("path_key", sa.String(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["clip_id"], ["clip.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_render_clip_id"), "render", ["clip_id"], unique=False)
    op.create_table(
        "version",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("clip_id", sa.Integer(), nullable=False),
        sa.Column("letter", sa.String(length=3), nullable=False),
        sa.Column("treatment", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("zoom", sa.Double(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["clip_id"], ["clip.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("clip_id", "letter"),
    )
    op.create_index(op.f("ix_version_clip_id"), "version", ["clip_id"], unique=False)
    op.create_table(
        "work",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(length=16), nullable=False),
        sa.Column("clip_id", sa.Integer(), nullable=False),
        sa.Column("render_id", sa.Integer(), nullable=True),
        sa.Column("first", sa.Integer(), nullable=True),
        sa.Column("last", sa.Integer(), nullable=True),
        sa.Column("state", sa.String(length=16), nullable=False),
        sa.Column("stop_wanted", sa.Boolean(), nullable=False),
        sa.Column("done", sa.Integer(), nullable=False),
        sa.Column("total", sa.Integer(), nullable=False),
        sa.Column("rate", sa.Double(), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["clip_id"], ["clip.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["render_id"], ["render.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_work_clip_id"), "work", ["clip_id"], unique=False)
    op.create_index(op.f("ix_work_state"), "work", ["state"], unique=False)
