"""Approved answers, and which one a question was answered with."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "approved_answers",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("question", sa.String(), nullable=False),
        sa.Column("phrasings", sa.JSON(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("places", sa.JSON(), nullable=False),
        sa.Column("category", sa.String(), nullable=False),
        sa.Column("valid_from", sa.Date(), nullable=True),
        sa.Column("valid_until", sa.Date(), nullable=True),
        sa.Column("owner", sa.String(), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        sa.Column("approved_by", sa.String(), nullable=False),
        sa.Column("approved_at", sa.DateTime(), nullable=True),
        sa.Column("turn_id", sa.String(), nullable=True),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_approved_answers_team_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["kb_id"], ["kbs.id"], name=op.f("fk_approved_answers_kb_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_approved_answers")),
    )
    op.create_index(op.f("ix_approved_answers_team_id"), "approved_answers", ["team_id"])
    op.create_index(
        "ix_approved_answers_kb_id", "approved_answers", ["kb_id", "state", "changed_at"]
    )
    op.create_table(
        "approved_versions",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("approved_id", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.Column("author", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_approved_versions_team_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["approved_id"],
            ["approved_answers.id"],
            name=op.f("fk_approved_versions_approved_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_approved_versions")),
        sa.UniqueConstraint(
            "approved_id", "number", name=op.f("uq_approved_versions_approved_id_number")
        ),
    )
    op.create_index(op.f("ix_approved_versions_team_id"), "approved_versions", ["team_id"])
    op.add_column("turns", sa.Column("approved", sa.JSON(), nullable=True))
    op.add_column("turns", sa.Column("choices", sa.JSON(), nullable=True))
