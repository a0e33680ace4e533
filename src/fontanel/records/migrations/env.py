"""Alembic's environment: runs migrations on the connection of `records.database`."""

from alembic import context

from fontanel.records import tables  # noqa: F401
from fontanel.records.tables import Base

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=Base.metadata,
    render_as_batch=True,
)
with context.begin_transaction():
    context.run_migrations()
