"""Budgets and pauses of builds; usage by source, run and edition; vectors cut by the service."""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"


def upgrade() -> None:
    op.add_column("editions", sa.Column("budget", sa.Double(), nullable=True))
    op.add_column("editions", sa.Column("paused_by", sa.String(), nullable=True))
    for name in ("source_id", "sync_id", "edition_id"):
        op.add_column("uses", sa.Column(name, sa.String(), nullable=True))
    op.create_index("ix_uses_sync_id", "uses", ["sync_id"])
    op.create_index("ix_uses_edition_id", "uses", ["edition_id"])
    op.create_index("ix_sync_items_revision_id", "sync_items", ["revision_id"])
    op.add_column("embedders", sa.Column("request_seconds", sa.Double(), nullable=True))
    for name in ("tokens_counted", "tokens_estimated"):
        column = sa.Column(name, sa.Integer(), nullable=False, server_default="0")
        op.add_column("embedders", column)
    op.add_column("embedders", sa.Column("uncut", sa.Integer(), nullable=True))
