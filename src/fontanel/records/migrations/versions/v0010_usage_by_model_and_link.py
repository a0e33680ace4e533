"""Usage names the model that was called, one knowledge base, and the guests' link."""

from __future__ import annotations

import json

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    for name in ("model", "kb_id", "link_id"):
        op.add_column("uses", sa.Column(name, sa.String(), nullable=True))
    connection = op.get_bind()
    connection.execute(
        sa.text("UPDATE uses SET model = composer WHERE composer NOT IN ('built-in', 'curated')")
    )
    # Which of a desk's knowledge bases an earlier answer cited is in its turn, if that is kept.
    update = sa.text("UPDATE uses SET kb_id = :kb WHERE key = :key")
    rows = connection.execute(
        sa.text(
            "SELECT uses.key, uses.kb_ids, turns.citations FROM uses"
            " LEFT JOIN turns ON turns.id = uses.turn_id"
        )
    ).all()
    for key, kb_ids, citations in rows:
        cited = [citation.get("kb_id") for citation in json.loads(citations or "[]")]
        candidates = [*filter(None, cited), *json.loads(kb_ids or "[]")]
        if candidates:
            connection.execute(update, {"kb": candidates[0], "key": key})
