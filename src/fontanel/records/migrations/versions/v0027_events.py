"""Events that are only sent to receivers."""

import sqlalchemy as sa
from alembic import op

revision = "0027"
down_revision = "0026"


def upgrade() -> None:
    op.add_column("notices", sa.Column("event", sa.Boolean(), nullable=False, server_default="0"))
