"""Backups."""

import sqlalchemy as sa
from alembic import op

revision = "0032"
down_revision = "0031"


def upgrade() -> None:
    op.create_table(
        "backups",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("asked_by", sa.String(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("encrypted", sa.Boolean(), nullable=False),
        *(
            sa.Column(name, sa.Integer(), nullable=False)
            for name in ("total", "done", "new", "files", "documents")
        ),
        sa.Column("checked", sa.String(), nullable=False),
        sa.Column("error", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("finished_at", sa.DateTime(), nullable=True),
        sa.Column("deleted_at", sa.DateTime(), nullable=True),
        sa.PrimaryKeyConstraint("id", name="pk_backups"),
    )
    op.create_index("ix_backups_state", "backups", ["state"])
