"""Quotas of teams, and counts of what they have."""

import sqlalchemy as sa
from alembic import op

revision = "0034"
down_revision = "0033"

_REMOVED = "'removed'"


def upgrade() -> None:
    for name in ("quotas", "quota_states"):
        op.add_column("teams", sa.Column(name, sa.JSON(), nullable=False, server_default="{}"))
    op.add_column("keys", sa.Column("requests_per_minute", sa.Integer(), nullable=True))
    op.create_table(
        "default_quotas",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("limits", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("key", name="pk_default_quotas"),
    )
    op.create_table(
        "team_counts",
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("documents", sa.Integer(), nullable=False),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("team_id", name="pk_team_counts"),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name="fk_team_counts_team_id_teams", ondelete="CASCADE"
        ),
    )
    op.create_table(
        "passage_counts",
        sa.Column("edition_id", sa.String(), nullable=False),
        sa.Column("passages", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("edition_id", name="pk_passage_counts"),
        sa.ForeignKeyConstraint(
            ["edition_id"],
            ["editions.id"],
            name="fk_passage_counts_edition_id_editions",
            ondelete="CASCADE",
        ),
    )
    _count()
    _keep_counting()
    op.drop_index("ix_uses_team_at", "uses")
    counted = ["team_id", "at", "outcome", "asker", "tokens_read", "tokens_written", "cost"]
    op.create_index("ix_uses_team_at", "uses", counted)


def _count() -> None:
    """Count what is there."""
    op.execute(
        "INSERT INTO team_counts (team_id, documents, bytes)"
        " SELECT id,"
        f" (SELECT count(*) FROM documents WHERE team_id = teams.id AND state != {_REMOVED}),"
        " (SELECT coalesce(sum(size), 0) FROM revisions WHERE team_id = teams.id)"
        " FROM teams"
    )
    op.execute(
        "INSERT INTO passage_counts (edition_id, passages)"
        " SELECT id, (SELECT count(*) FROM passages WHERE edition_id = editions.id) FROM editions"
    )


def _keep_counting() -> None:
    """Have the database change the counts with each row."""
    add_document = _upsert("team_counts", "team_id", "documents", "NEW.team_id", "1", "bytes")
    add_bytes = _upsert("team_counts", "team_id", "bytes", "NEW.team_id", "NEW.size", "documents")
    add_passage = _upsert("passage_counts", "edition_id", "passages", "NEW.edition_id", "1")
    for name, event, condition, action in (
        ("documents_added", "INSERT ON documents", f"NEW.state != {_REMOVED}", add_document),
        (
            "documents_deleted",
            "DELETE ON documents",
            f"OLD.state != {_REMOVED}",
            "UPDATE team_counts SET documents = documents - 1 WHERE team_id = OLD.team_id",
        ),
        (
            "documents_removed",
            "UPDATE OF state ON documents",
            f"(OLD.state = {_REMOVED}) != (NEW.state = {_REMOVED})",
            f"UPDATE team_counts SET documents = documents + (OLD.state = {_REMOVED})"
            f" - (NEW.state = {_REMOVED}) WHERE team_id = NEW.team_id",
        ),
        ("bytes_added", "INSERT ON revisions", "true", add_bytes),
        (
            "bytes_deleted",
            "DELETE ON revisions",
            "true",
            "UPDATE team_counts SET bytes = bytes - OLD.size WHERE team_id = OLD.team_id",
        ),
        ("passages_added", "INSERT ON passages", "true", add_passage),
        (
            "passages_deleted",
            "DELETE ON passages",
            "true",
            "UPDATE passage_counts SET passages = passages - 1 WHERE edition_id = OLD.edition_id",
        ),
    ):
        op.execute(
            f"CREATE TRIGGER count_{name} AFTER {event} WHEN {condition} BEGIN {action}; END"
        )


def _upsert(table: str, key: str, column: str, ref: str, add: str, other: str = "") -> str:
    columns, values = f"{key}, {column}", f"{ref}, {add}"
    if other:
        columns, values = f"{columns}, {other}", f"{values}, 0"
    return (
        f"INSERT INTO {table} ({columns}) VALUES ({values})"
        f" ON CONFLICT ({key}) DO UPDATE SET {column} = {column} + excluded.{column}"
    )
