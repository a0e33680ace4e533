"""Embedders in directories of the service's machine."""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"


def upgrade() -> None:
    op.add_column("embedders", sa.Column("directory", sa.String(), nullable=True))
