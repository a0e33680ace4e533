"""The question set that an edition has to pass, and the model that proposes questions."""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"


def upgrade() -> None:
    op.add_column("kbs", sa.Column("proposer", sa.String(), nullable=True))
    op.add_column("kbs", sa.Column("trial_set", sa.String(), nullable=True))
    op.add_column("kbs", sa.Column("max_losses", sa.Integer(), nullable=False, server_default="0"))
