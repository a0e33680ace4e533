"""Erasures of people."""

import sqlalchemy as sa
from alembic import op

revision = "0035"
down_revision = "0034"


def upgrade() -> None:
    op.create_table(
        "erasures",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("person_id", sa.String(), nullable=False),
        sa.Column("asked_by", sa.String(), nullable=False),
        sa.Column("removed", sa.JSON(), nullable=False),
        sa.Column("mentions", sa.JSON(), nullable=False),
        sa.Column("in_backups_until", sa.DateTime(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_erasures"),
    )
