"""The text that past answers cite, followed from revision to revision."""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"


def upgrade() -> None:
    op.create_table(
        "answer_sources",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("turn_id", sa.String(), nullable=False),
        sa.Column("document_id", sa.String(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("revision_id", sa.String(), nullable=False),
        sa.Column("start", sa.Integer(), nullable=False),
        sa.Column("end", sa.Integer(), nullable=False),
        sa.Column("quote", sa.String(), nullable=False),
        sa.Column("checked_id", sa.String(), nullable=True),
        sa.Column("change", sa.String(), nullable=False),
        sa.Column("new_text", sa.String(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        *(
            sa.ForeignKeyConstraint(
                [column], [target], name=op.f(f"fk_answer_sources_{column}"), ondelete="CASCADE"
            )
            for column, target in (
                ("team_id", "teams.id"),
                ("kb_id", "kbs.id"),
                ("turn_id", "turns.id"),
            )
        ),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_answer_sources")),
    )
    op.create_index(op.f("ix_answer_sources_turn_id"), "answer_sources", ["turn_id"])
    op.create_index(
        "ix_answer_sources_document", "answer_sources", ["kb_id", "document_id", "checked_id"]
    )
    op.create_index("ix_answer_sources_change", "answer_sources", ["team_id", "change"])
