"""Gaps, uses of passages, and what is done about feedback."""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    op.create_table(
        "gaps",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("question", sa.String(), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        sa.Column("resolution", sa.String(), nullable=False),
        sa.Column("resolved_by", sa.String(), nullable=False),
        sa.Column("assignee", sa.String(), nullable=False),
        sa.Column("comments", sa.JSON(), nullable=False),
        sa.Column("answer", sa.JSON(), nullable=True),
        sa.Column("checked_at", sa.DateTime(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        _parent("gaps", "team_id", "teams"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_gaps")),
    )
    op.create_index("ix_gaps_team_id", "gaps", ["team_id", "state"])
    op.create_table(
        "gap_questions",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("gap_id", sa.String(), nullable=True),
        sa.Column("turn_id", sa.String(), nullable=False),
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("question", sa.String(), nullable=False),
        sa.Column("desk_id", sa.String(), nullable=True),
        sa.Column("kb_ids", sa.JSON(), nullable=False),
        sa.Column("found", sa.JSON(), nullable=False),
        sa.Column("sufficiency", sa.Double(), nullable=False),
        sa.Column("vector", sa.LargeBinary(), nullable=True),
        sa.Column("embedder", sa.String(), nullable=True),
        sa.Column("asked_at", sa.DateTime(), nullable=False),
        _parent("gap_questions", "team_id", "teams"),
        _parent("gap_questions", "gap_id", "gaps"),
        _parent("gap_questions", "turn_id", "turns"),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_gap_questions")),
        sa.UniqueConstraint("turn_id", name=op.f("uq_gap_questions_turn_id")),
    )
    op.create_index(op.f("ix_gap_questions_team_id"), "gap_questions", ["team_id"])
    op.create_index("ix_gap_questions_gap_id", "gap_questions", ["gap_id"])
    op.create_table(
        "passage_uses",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("document_id", sa.String(), nullable=False),
        sa.Column("revision_id", sa.String(), nullable=False),
        sa.Column("start", sa.Integer(), nullable=False),
        sa.Column("found", sa.Integer(), nullable=False),
        sa.Column("cited", sa.Integer(), nullable=False),
        sa.Column("last_found_at", sa.DateTime(), nullable=False),
        sa.Column("last_cited_at", sa.DateTime(), nullable=True),
        _parent("passage_uses", "team_id", "teams"),
        _parent("passage_uses", "kb_id", "kbs"),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_passage_uses")),
        sa.UniqueConstraint("revision_id", "start", name=op.f("uq_passage_uses_revision_id_start")),
    )
    op.create_index(op.f("ix_passage_uses_team_id"), "passage_uses", ["team_id"])
    op.create_index("ix_passage_uses_document", "passage_uses", ["kb_id", "document_id"])
    for column in (
        sa.Column("handled", sa.Boolean(), nullable=False, server_default="0"),
        sa.Column("assignee", sa.String(), nullable=False, server_default=""),
        sa.Column("reply", sa.String(), nullable=False, server_default=""),
        sa.Column("replied_by", sa.String(), nullable=False, server_default=""),
    ):
        op.add_column("feedback", column)
    op.add_column(
        "teams", sa.Column("show_askers", sa.Boolean(), nullable=False, server_default="0")
    )


def _parent(table: str, column: str, target: str) -> sa.ForeignKeyConstraint:
    return sa.ForeignKeyConstraint(
        [column], [f"{target}.id"], name=op.f(f"fk_{table}_{column}"), ondelete="CASCADE"
    )
