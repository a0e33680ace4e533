"""Retention of records of answers, and of originals of earlier revisions."""

import sqlalchemy as sa
from alembic import op

revision = "0037"
down_revision = "0036"

_SUBTRACT = "UPDATE team_counts SET bytes = bytes - {row}.size WHERE team_id = {row}.team_id"


def upgrade() -> None:
    op.add_column("teams", sa.Column("records_kept_days", sa.Integer(), nullable=True))
    op.add_column("teams", sa.Column("originals_kept_days", sa.Integer(), nullable=True))
    op.add_column("turns", sa.Column("record_deleted_at", sa.DateTime(), nullable=True))
    op.add_column("revisions", sa.Column("original_deleted_at", sa.DateTime(), nullable=True))
    op.execute("DROP TRIGGER count_bytes_deleted")
    op.execute(
        "CREATE TRIGGER count_bytes_deleted AFTER DELETE ON revisions"
        f" WHEN OLD.original_deleted_at IS NULL BEGIN {_SUBTRACT.format(row='OLD')}; END"
    )
    op.execute(
        "CREATE TRIGGER count_originals_deleted AFTER UPDATE OF original_deleted_at ON revisions"
        " WHEN OLD.original_deleted_at IS NULL AND NEW.original_deleted_at IS NOT NULL"
        f" BEGIN {_SUBTRACT.format(row='NEW')}; END"
    )
