"""Alembic's entry: runs migrations on the address it is given."""

from alembic import context

from keen_horizon.store.database import connect
from keen_horizon.store.models import Base

engine = connect(context.config.attributes["url"])
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
