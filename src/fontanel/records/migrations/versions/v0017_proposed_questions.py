"""Questions that documents answer, proposed for approval."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    op.add_column(
        "kbs",
        sa.Column("proposes_questions", sa.Boolean(), nullable=False, server_default="0"),
    )
    op.create_table(
        "proposals",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("document_id", sa.String(), nullable=False),
        sa.Column("revision_id", sa.String(), nullable=False),
        sa.Column("start", sa.Integer(), nullable=False),
        sa.Column("end", sa.Integer(), nullable=False),
        sa.Column("quote", sa.String(), nullable=False),
        sa.Column("question", sa.String(), nullable=False),
        sa.Column("phrasings", sa.JSON(), nullable=False),
        sa.Column("answer", sa.String(), nullable=False),
        sa.Column("relevance", sa.Double(), nullable=False),
        sa.Column("edited", sa.Boolean(), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        sa.Column("approved_id", sa.String(), nullable=True),
        sa.Column("decided_by", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        *_parents("proposals"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_proposals")),
        sa.UniqueConstraint(
            "document_id", "question", name=op.f("uq_proposals_document_id_question")
        ),
    )
    op.create_index(op.f("ix_proposals_team_id"), "proposals", ["team_id"])
    op.create_index("ix_proposals_kb_id", "proposals", ["kb_id", "state"])
    op.create_table(
        "proposal_runs",
        sa.Column("document_id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("revision_id", sa.String(), nullable=True),
        sa.Column("waiting", sa.Boolean(), nullable=False),
        sa.Column("tried", sa.Integer(), nullable=False),
        sa.Column("error", sa.String(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        *_parents("proposal_runs"),
        sa.PrimaryKeyConstraint("document_id", name=op.f("pk_proposal_runs")),
    )
    for column in ("team_id", "kb_id", "waiting"):
        op.create_index(op.f(f"ix_proposal_runs_{column}"), "proposal_runs", [column])


def _parents(table: str) -> list[sa.ForeignKeyConstraint]:
    return [
        sa.ForeignKeyConstraint(
            [column], [f"{target}.id"], name=op.f(f"fk_{table}_{column}"), ondelete="CASCADE"
        )
        for column, target in (("team_id", "teams"), ("kb_id", "kbs"), ("document_id", "documents"))
    ]
