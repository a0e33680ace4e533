"""A second version of a desk that a share of its askers gets."""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"


def upgrade() -> None:
    op.add_column("desks", sa.Column("second_version", sa.Integer(), nullable=True))
    op.add_column(
        "desks", sa.Column("second_share", sa.Integer(), nullable=False, server_default="0")
    )
    op.add_column("desks", sa.Column("second_since", sa.DateTime(), nullable=True))
