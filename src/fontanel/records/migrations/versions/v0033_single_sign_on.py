"""Single sign-on."""

import sqlalchemy as sa
from alembic import op

revision = "0033"
down_revision = "0032"


def upgrade() -> None:
    with op.batch_alter_table("people") as table:
        table.add_column(sa.Column("subject", sa.String(), nullable=True))
        table.add_column(
            sa.Column("operator_by_rule", sa.Boolean(), nullable=False, server_default="0")
        )
        table.create_unique_constraint("uq_people_subject", ["subject"])
    op.add_column("sign_ins", sa.Column("provider_session", sa.String(), nullable=True))
    op.create_index("ix_sign_ins_provider_session", "sign_ins", ["provider_session"])
    op.add_column("members", sa.Column("by_rule", sa.Boolean(), nullable=False, server_default="0"))
