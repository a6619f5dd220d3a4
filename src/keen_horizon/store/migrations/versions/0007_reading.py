"""how an editor wants a clip's fields read"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column("clip", sa.Column("asked", JSONB(), nullable=True))


def downgrade() -> None:
    op.drop_column("clip", "asked")
