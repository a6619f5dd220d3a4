"""whether a project's clips are measured as they arrive"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    column = sa.Column("measures_itself", sa.Boolean(), nullable=False, server_default=sa.false())
    op.add_column("project", column)


def downgrade() -> None:
    op.drop_column("project", "measures_itself")
