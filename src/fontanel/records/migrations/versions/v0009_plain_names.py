"""Plain names of stored states and settings."""

from __future__ import annotations

import json
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"

_STATES = (
    ("documents", "state", "indexed_by_words", "keyword_ready"),
    ("turns", "state", "broken_off", "interrupted"),
)
_DESK_SETTINGS = {"ground": "grounding", "weak": "unsupported", "evidence_floor": "evidence_needed"}
_SPLITTING = {"least_tokens": "min_tokens"}
_STEPS = {"told": "details"}
#: Table, key, column, and the names in its JSON.
_JSON = (
    ("desks", "id", "draft", _DESK_SETTINGS),
    ("desk_versions", "id", "settings", _DESK_SETTINGS),
    ("turns", "id", "settings", _DESK_SETTINGS),
    ("turns", "id", "steps", _STEPS),
    ("editions", "id", "settings", _SPLITTING),
)

#: Table, and the old and new name of a column.
_COLUMNS = (
    ("editions", "takes_over", "replaces_active"),
    ("sources", "guard_least", "guard_min"),
    ("sources", "looked_at", "last_listed_at"),
    ("syncs", "held_for", "held_reason"),
)


def upgrade() -> None:
    connection = op.get_bind()
    for table, old, new in _COLUMNS:
        op.execute(f"ALTER TABLE {table} RENAME COLUMN {old} TO {new}")
    # Replies to repeated requests are kept for a day, in the form of the version that gave them.
    op.execute("DELETE FROM idempotent_replies")
    for table, column, old, new in _STATES:
        connection.execute(
            sa.text(f"UPDATE {table} SET {column} = :new WHERE {column} = :old"),
            {"old": old, "new": new},
        )
    for table, key, column, names in _JSON:
        rows = connection.execute(sa.text(f"SELECT {key}, {column} FROM {table}")).all()
        update = sa.text(f"UPDATE {table} SET {column} = :value WHERE {key} = :key")
        for row_key, stored in rows:
            value = json.loads(stored) if stored else None
            renamed = _renamed(value, names)
            if renamed != value:
                connection.execute(update, {"value": json.dumps(renamed), "key": row_key})


def _renamed(value: Any, names: dict[str, str]) -> Any:
    """Return a JSON object, or a list of them, with its keys renamed."""
    if isinstance(value, list):
        return [_renamed(item, names) for item in value]
    if isinstance(value, dict):
        return {names.get(key, key): item for key, item in value.items()}
    return value
