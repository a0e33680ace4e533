"""Channels and their messages."""

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"


def _of_team() -> sa.Column[str]:
    return sa.Column("team_id", sa.String(), nullable=False)


def _team_key(table: str) -> sa.ForeignKeyConstraint:
    return sa.ForeignKeyConstraint(
        ["team_id"], ["teams.id"], name=f"fk_{table}_team_id", ondelete="CASCADE"
    )


def upgrade() -> None:
    op.create_table(
        "channels",
        sa.Column("id", sa.String(), nullable=False),
        _of_team(),
        sa.Column("desk_id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("credentials", sa.LargeBinary(), nullable=True),
        sa.Column("credential_names", sa.JSON(), nullable=False),
        sa.Column("paused", sa.Boolean(), nullable=False),
        sa.Column("position", sa.String(), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("failing_since", sa.DateTime(), nullable=True),
        sa.Column("noticed", sa.Boolean(), nullable=False),
        sa.Column("connected_at", sa.DateTime(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        _team_key("channels"),
        sa.ForeignKeyConstraint(
            ["desk_id"], ["desks.id"], name="fk_channels_desk_id", ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name="pk_channels"),
        sa.UniqueConstraint("team_id", "name", name="uq_channels_team_id_name"),
    )
    op.create_index("ix_channels_team_id", "channels", ["team_id"])
    op.create_index("ix_channels_desk_id", "channels", ["desk_id"])
    op.create_table(
        "channel_messages",
        sa.Column("id", sa.String(), nullable=False),
        _of_team(),
        sa.Column("channel_id", sa.String(), nullable=False),
        sa.Column("external_id", sa.String(), nullable=False),
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        *(
            sa.Column(name, sa.String(), nullable=False)
            for name in ("reason", "thread", "room", "sender", "sender_name", "text", "about")
        ),
        sa.Column("address", sa.JSON(), nullable=False),
        sa.Column("turn_id", sa.String(), nullable=True),
        sa.Column("conversation_id", sa.String(), nullable=True),
        sa.Column("reply", sa.String(), nullable=False),
        sa.Column("sources", sa.JSON(), nullable=False),
        sa.Column("replaces", sa.String(), nullable=False),
        sa.Column("sent_id", sa.String(), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("run_after", sa.DateTime(), nullable=False),
        sa.Column("received_at", sa.DateTime(), nullable=False),
        sa.Column("answered_at", sa.DateTime(), nullable=True),
        sa.Column("sent_at", sa.DateTime(), nullable=True),
        _team_key("channel_messages"),
        sa.ForeignKeyConstraint(
            ["channel_id"],
            ["channels.id"],
            name="fk_channel_messages_channel_id",
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name="pk_channel_messages"),
        sa.UniqueConstraint(
            "channel_id", "external_id", name="uq_channel_messages_channel_id_external_id"
        ),
    )
    op.create_index("ix_channel_messages_team_id", "channel_messages", ["team_id"])
    op.create_index(
        "ix_channel_messages_received", "channel_messages", ["channel_id", "received_at"]
    )
    op.create_index("ix_channel_messages_thread", "channel_messages", ["channel_id", "thread"])
    op.create_index("ix_channel_messages_sent", "channel_messages", ["channel_id", "sent_id"])
    op.create_index(
        "ix_channel_messages_open",
        "channel_messages",
        ["state", "run_after"],
        sqlite_where=sa.text("state IN ('waiting', 'answered')"),
    )
