"""plates, maps and overlays"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.add_column("render", sa.Column("kind", sa.String(length=16), nullable=False, server_default="picture"))
    op.add_column("render", sa.Column("graphics", postgresql.JSONB(astext_type=sa.Text()), nullable=True))
