"""Erasures of documents."""

import sqlalchemy as sa
from alembic import op

revision = "0036"
down_revision = "0035"


def upgrade() -> None:
    with op.batch_alter_table("erasures") as batch_op:
        batch_op.alter_column("person_id", existing_type=sa.String(), nullable=True)
        batch_op.add_column(sa.Column("team_id", sa.String(), nullable=True))
        batch_op.add_column(sa.Column("document_id", sa.String(), nullable=True))
        batch_op.add_column(sa.Column("remains", sa.JSON(), server_default="{}", nullable=False))
        batch_op.add_column(sa.Column("finished_at", sa.DateTime(), nullable=True))
        batch_op.create_index("ix_erasures_team_id", ["team_id"])
    op.execute("UPDATE erasures SET finished_at = created_at")
