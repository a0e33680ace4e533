"""Keep reading reports, descriptions, and which document another was found in."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    # Columns are added in place: copying a table would take what hangs on it along.
    op.add_column("documents", sa.Column("parent_key", sa.Integer(), nullable=True))
    op.add_column(
        "documents", sa.Column("description", sa.String(), server_default="", nullable=False)
    )
    op.create_index(op.f("ix_documents_parent_key"), "documents", ["parent_key"], unique=False)
    op.add_column("revisions", sa.Column("report", sa.JSON(), nullable=True))
    op.add_column("revisions", sa.Column("columns", sa.JSON(), nullable=True))
