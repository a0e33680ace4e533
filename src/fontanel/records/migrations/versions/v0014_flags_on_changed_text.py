"""Flags on approved answers whose documents changed."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.add_column("approved_answers", sa.Column("followed_at", sa.DateTime(), nullable=True))
    op.create_table(
        "approved_flags",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("approved_id", sa.String(), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("document_id", sa.String(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("change", sa.String(), nullable=False),
        sa.Column("old_text", sa.String(), nullable=False),
        sa.Column("new_text", sa.String(), nullable=False),
        sa.Column("revision_id", sa.String(), nullable=True),
        sa.Column("start", sa.Integer(), nullable=False),
        sa.Column("end", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        sa.Column("settled_by", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        *(
            sa.ForeignKeyConstraint(
                [column], [target], name=op.f(f"fk_approved_flags_{column}"), ondelete="CASCADE"
            )
            for column, target in (
                ("team_id", "teams.id"),
                ("kb_id", "kbs.id"),
                ("approved_id", "approved_answers.id"),
            )
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_approved_flags")),
        sa.UniqueConstraint(
            "approved_id", "place", name=op.f("uq_approved_flags_approved_id_place")
        ),
    )
    op.create_index(op.f("ix_approved_flags_team_id"), "approved_flags", ["team_id"])
    op.create_index("ix_approved_flags_kb_id", "approved_flags", ["kb_id", "state"])
