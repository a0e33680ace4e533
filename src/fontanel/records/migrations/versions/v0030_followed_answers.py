"""Answers that somebody follows."""

import sqlalchemy as sa
from alembic import op

revision = "0030"
down_revision = "0029"


def upgrade() -> None:
    op.create_table(
        "followed_answers",
        *(
            sa.Column(name, sa.String(), nullable=False)
            for name in (
                "id",
                "team_id",
                "desk_id",
                "turn_id",
                "asker",
                "question",
                "answer",
                "outcome",
            )
        ),
        sa.Column("composed", sa.Boolean(), nullable=False),
        sa.Column("documents", sa.JSON(), nullable=False),
        sa.Column("kb_ids", sa.JSON(), nullable=False),
        sa.Column("channel_id", sa.String(), nullable=True),
        sa.Column("thread", sa.String(), nullable=False),
        sa.Column("address", sa.JSON(), nullable=False),
        sa.Column("email", sa.String(), nullable=False),
        sa.Column("mail_waiting", sa.Boolean(), nullable=False),
        sa.Column("feed_hash", sa.String(), nullable=False),
        sa.Column("changes", sa.JSON(), nullable=False),
        sa.Column("checked_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        *(
            sa.ForeignKeyConstraint(
                [f"{name}_id"],
                [f"{name}s.id"],
                name=f"fk_followed_answers_{name}_id",
                ondelete="CASCADE",
            )
            for name in ("team", "desk", "channel")
        ),
        sa.PrimaryKeyConstraint("id", name="pk_followed_answers"),
        sa.UniqueConstraint("asker", "turn_id", name="uq_followed_answers_asker_turn_id"),
        sa.UniqueConstraint("feed_hash", name="uq_followed_answers_feed_hash"),
    )
    op.create_index("ix_followed_answers_team_id", "followed_answers", ["team_id"])
    op.create_index("ix_followed_answers_desk_id", "followed_answers", ["desk_id"])
    op.create_index("ix_followed_answers_thread", "followed_answers", ["channel_id", "thread"])
