"""Documents that programs propose, for editors to accept or dismiss."""

import sqlalchemy as sa
from alembic import op

revision = "0038"
down_revision = "0037"


def upgrade() -> None:
    op.add_column(
        "kbs",
        sa.Column("accepts_proposed_documents", sa.Boolean(), nullable=False, server_default="0"),
    )
    op.create_table(
        "proposed_documents",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("replaces", sa.String(), nullable=True),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("proposed_by", sa.String(), nullable=False),
        sa.Column("decided_by", sa.String(), nullable=False),
        sa.Column("note", sa.String(), nullable=False),
        sa.Column("document_id", sa.String(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("decided_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(
            ["kb_id"], ["kbs.id"], name="fk_proposed_documents_kb_id_kbs", ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["team_id"],
            ["teams.id"],
            name="fk_proposed_documents_team_id_teams",
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name="pk_proposed_documents"),
    )
    op.create_index("ix_proposed_documents_kb_id", "proposed_documents", ["kb_id"])
    op.create_index("ix_proposed_documents_team_id", "proposed_documents", ["team_id"])
