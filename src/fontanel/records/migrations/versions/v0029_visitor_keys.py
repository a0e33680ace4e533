"""Keys with which other sites sign the identity of a desk's visitors."""

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"


def upgrade() -> None:
    op.add_column("desks", sa.Column("visitor_key", sa.LargeBinary(), nullable=True))
