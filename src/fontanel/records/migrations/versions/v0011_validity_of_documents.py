"""Which documents are in force, and which ones replace others."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.add_column("revisions", sa.Column("opening_dates", sa.JSON(), nullable=True))
    op.add_column(
        "kbs", sa.Column("outdated", sa.String(length=20), server_default="lower", nullable=False)
    )
    op.create_table(
        "validities",
        sa.Column("document_key", sa.Integer(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("statements", sa.JSON(), nullable=False),
        sa.Column("in_force_from", sa.Date(), nullable=True),
        sa.Column("in_force_until", sa.Date(), nullable=True),
        sa.Column("withdrawn", sa.Boolean(), nullable=False),
        sa.Column("mark", sa.String(length=20), nullable=True),
        sa.Column("replaced_by_key", sa.Integer(), nullable=True),
        sa.Column("marked_by", sa.String(), nullable=False),
        sa.Column("marked_at", sa.DateTime(), nullable=True),
        *_foreign_keys("validities", ("replaced_by_key", "SET NULL")),
        sa.PrimaryKeyConstraint("document_key", name=op.f("pk_validities")),
    )
    for column in ("team_id", "kb_id", "replaced_by_key"):
        op.create_index(op.f(f"ix_validities_{column}"), "validities", [column])
    op.create_table(
        "document_references",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("document_key", sa.Integer(), nullable=False),
        sa.Column("relation", sa.String(length=20), nullable=False),
        sa.Column("names", sa.String(), nullable=False),
        sa.Column("lookup", sa.String(), nullable=False),
        sa.Column("named_on", sa.Date(), nullable=True),
        sa.Column("target_key", sa.Integer(), nullable=True),
        *_foreign_keys("document_references", ("target_key", "SET NULL")),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_document_references")),
    )
    for column in ("team_id", "document_key", "target_key"):
        op.create_index(op.f(f"ix_document_references_{column}"), "document_references", [column])
    op.create_index(
        "ix_document_references_lookup", "document_references", ["kb_id", "lookup", "named_on"]
    )
    op.create_table(
        "document_names",
        sa.Column("document_key", sa.Integer(), nullable=False),
        sa.Column("lookup", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        *_foreign_keys("document_names"),
        sa.PrimaryKeyConstraint("document_key", "lookup", name=op.f("pk_document_names")),
    )
    op.create_index(op.f("ix_document_names_team_id"), "document_names", ["team_id"])
    op.create_index("ix_document_names_lookup", "document_names", ["kb_id", "lookup"])


def _foreign_keys(table: str, *others: tuple[str, str]) -> list[sa.ForeignKeyConstraint]:
    """Return the keys to a team, a knowledge base, a document and other documents."""
    keys = [
        ("team_id", "teams.id", "CASCADE"),
        ("kb_id", "kbs.id", "CASCADE"),
        ("document_key", "documents.key", "CASCADE"),
        *((column, "documents.key", ondelete) for column, ondelete in others),
    ]
    return [
        sa.ForeignKeyConstraint(
            [column], [target], name=op.f(f"fk_{table}_{column}"), ondelete=ondelete
        )
        for column, target, ondelete in keys
    ]
