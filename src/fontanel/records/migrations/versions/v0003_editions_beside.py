"""Number editions, and let a job say into which one it goes."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.add_column("editions", sa.Column("number", sa.Integer(), server_default="1", nullable=False))
    op.add_column("jobs", sa.Column("edition_id", sa.String(), nullable=True))
    op.create_index(op.f("ix_jobs_edition_id"), "jobs", ["edition_id"], unique=False)
