"""Alembic's way in: migrations run on the connection that `records.database` hands over."""

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
