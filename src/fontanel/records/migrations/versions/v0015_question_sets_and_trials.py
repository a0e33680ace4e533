"""Question sets, and trials of them."""

from collections.abc import Sequence

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    _table(
        "question_sets",
        _text("slug", "name", "about"),
        _times("created_at", "changed_at"),
        [
            sa.Column("desk_id", sa.String(), nullable=True),
            sa.Column("schedule", sa.String(length=20), nullable=False),
            sa.Column("version", sa.Integer(), nullable=False),
            sa.ForeignKeyConstraint(
                ["desk_id"],
                ["desks.id"],
                name=op.f("fk_question_sets_desk_id"),
                ondelete="SET NULL",
            ),
        ],
        unique=("team_id", "slug"),
    )
    _table(
        "set_questions",
        _text("set_id", "question", "kind", "note", "origin"),
        _json("history", "documents", "quotes", "contains"),
        _times("changed_at"),
        [
            sa.Column("number", sa.Integer(), nullable=False),
            sa.Column("must_decline", sa.Boolean(), nullable=False),
        ],
        parents={"set_id": "question_sets"},
    )
    op.create_index("ix_set_questions_set_id", "set_questions", ["set_id", "number"])
    _table(
        "trials",
        _text("set_id", "label", "note", "author"),
        _json("settings", "editions"),
        _times("created_at"),
        [
            sa.Column("set_version", sa.Integer(), nullable=False),
            sa.Column("desk_id", sa.String(), nullable=True),
            sa.Column("desk_version", sa.Integer(), nullable=True),
            sa.Column("asked_kb", sa.String(), nullable=True),
            sa.Column("state", sa.String(length=20), nullable=False),
            sa.Column("max_tokens", sa.Integer(), nullable=True),
            sa.Column("pair_id", sa.String(), nullable=True),
            sa.Column("scheduled", sa.Boolean(), nullable=False),
            sa.Column("started_at", sa.DateTime(), nullable=True),
            sa.Column("finished_at", sa.DateTime(), nullable=True),
        ],
        parents={"set_id": "question_sets", "desk_id": "desks", "asked_kb": "kbs"},
    )
    op.create_index("ix_trials_set_id", "trials", ["set_id", "created_at"])
    op.create_index(op.f("ix_trials_state"), "trials", ["state"])
    _table(
        "trial_results",
        _text("trial_id", "question_id", "result", "reason", "outcome", "text", "composer"),
        _json("content", "citations"),
        [
            sa.Column("number", sa.Integer(), nullable=False),
            sa.Column("cited", sa.Boolean(), nullable=True),
            sa.Column("sufficiency", sa.Double(), nullable=False),
            sa.Column("doubtful", sa.Integer(), nullable=False),
            sa.Column("tokens", sa.Integer(), nullable=False),
            sa.Column("cost", sa.Double(), nullable=False),
            sa.Column("seconds", sa.Double(), nullable=False),
            sa.Column("turn_id", sa.String(), nullable=True),
            sa.Column("asked_at", sa.DateTime(), nullable=True),
        ],
        key=sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        parents={"trial_id": "trials"},
        unique=("trial_id", "question_id"),
    )


def _text(*names: str) -> list[sa.schema.SchemaItem]:
    return [sa.Column(name, sa.String(), nullable=False) for name in names]


def _json(*names: str) -> list[sa.schema.SchemaItem]:
    return [sa.Column(name, sa.JSON(), nullable=False) for name in names]


def _times(*names: str) -> list[sa.schema.SchemaItem]:
    return [sa.Column(name, sa.DateTime(), nullable=False) for name in names]


def _table(
    name: str,
    *columns: Sequence[sa.schema.SchemaItem],
    key: sa.Column[int] | None = None,
    parents: dict[str, str] | None = None,
    unique: tuple[str, ...] = (),
) -> None:
    """Create a table of a team, with foreign keys that cascade."""
    own = sa.Column("id", sa.String(), nullable=False) if key is None else key
    constraints: list[sa.Constraint] = [
        sa.ForeignKeyConstraint(
            [column], [f"{target}.id"], name=op.f(f"fk_{name}_{column}"), ondelete="CASCADE"
        )
        for column, target in {"team_id": "teams", **(parents or {})}.items()
    ]
    if unique:
        constraints.append(sa.UniqueConstraint(*unique, name=op.f(f"uq_{name}_{'_'.join(unique)}")))
    op.create_table(
        name,
        own,
        sa.Column("team_id", sa.String(), nullable=False),
        *(column for group in columns for column in group),
        *constraints,
        sa.PrimaryKeyConstraint(own.name, name=op.f(f"pk_{name}")),
    )
    op.create_index(op.f(f"ix_{name}_team_id"), name, ["team_id"])
