"""edits that were brought to a project, and clips joined of several"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.create_table(
        "edit",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=255), nullable=False),
        sa.Column("document", sa.Text(), nullable=False),
        sa.Column("handles", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_edit_project_id"), "edit", ["project_id"], unique=False)
    op.add_column("clip", sa.Column("parts", JSONB(), nullable=True))


def downgrade() -> None:
    op.drop_column("clip", "parts")
    op.drop_table("edit")
