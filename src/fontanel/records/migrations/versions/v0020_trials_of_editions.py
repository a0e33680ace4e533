"""The question set that an edition has to pass, and the model that proposes questions."""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"


def upgrade() -> None:
    for name, kind, default in (
        ("passages", sa.Integer(), "0"),
        ("written", sa.JSON(), "{}"),
        ("tries", sa.Integer(), "0"),
    ):
        column = sa.Column(name, kind, nullable=False, server_default=default)
        op.add_column("proposal_runs", column)
    op.add_column("proposal_runs", sa.Column("again_at", sa.DateTime(), nullable=True))
    op.add_column("kbs", sa.Column("proposer", sa.String(), nullable=True))
    op.add_column("kbs", sa.Column("trial_set", sa.String(), nullable=True))
    op.add_column("kbs", sa.Column("max_losses", sa.Integer(), nullable=False, server_default="0"))
