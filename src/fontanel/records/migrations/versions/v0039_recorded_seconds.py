"""The length of recordings that were transcribed, which a quota limits."""

import sqlalchemy as sa
from alembic import op

revision = "0039"
down_revision = "0038"


def upgrade() -> None:
    op.add_column(
        "uses", sa.Column("recorded_seconds", sa.Double(), nullable=False, server_default="0.0")
    )
