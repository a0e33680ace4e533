"""Keep desks, models, the record of an answer, feedback and use."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.create_table(
        "models",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("remote", sa.String(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=True),
        sa.Column("price_read", sa.Double(), nullable=False),
        sa.Column("price_written", sa.Double(), nullable=False),
        sa.Column("currency", sa.String(), nullable=False),
        sa.Column("team_ids", sa.JSON(), nullable=True),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("enabled", sa.Boolean(), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("checked_at", sa.DateTime(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_models")),
        sa.UniqueConstraint("name", name=op.f("uq_models_name")),
    )
    op.create_table(
        "desks",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("slug", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("draft", sa.JSON(), nullable=False),
        sa.Column("published", sa.Integer(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_desks_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_desks")),
        sa.UniqueConstraint("team_id", "slug", name=op.f("uq_desks_team_id_slug")),
    )
    with op.batch_alter_table("desks", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_desks_team_id"), ["team_id"], unique=False)

    op.create_table(
        "uses",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("turn_id", sa.String(), nullable=False),
        sa.Column("desk_id", sa.String(), nullable=True),
        sa.Column("kb_ids", sa.JSON(), nullable=False),
        sa.Column("asker", sa.String(), nullable=False),
        sa.Column("outcome", sa.String(), nullable=False),
        sa.Column("composer", sa.String(), nullable=False),
        sa.Column("tokens_read", sa.Integer(), nullable=False),
        sa.Column("tokens_written", sa.Integer(), nullable=False),
        sa.Column("cost", sa.Double(), nullable=False),
        sa.Column("first_seconds", sa.Double(), nullable=True),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.Column("helpful", sa.Boolean(), nullable=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_uses_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_uses")),
        sa.UniqueConstraint("turn_id", name=op.f("uq_uses_turn_id")),
    )
    with op.batch_alter_table("uses", schema=None) as batch_op:
        batch_op.create_index("ix_uses_team_at", ["team_id", "at"], unique=False)
        batch_op.create_index(batch_op.f("ix_uses_team_id"), ["team_id"], unique=False)

    op.create_table(
        "desk_links",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("desk_id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("start", sa.String(), nullable=False),
        sa.Column("secret_hash", sa.String(), nullable=False),
        sa.Column("per_minute", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("expires_at", sa.DateTime(), nullable=True),
        sa.Column("revoked_at", sa.DateTime(), nullable=True),
        sa.Column("last_used_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(
            ["desk_id"], ["desks.id"], name=op.f("fk_desk_links_desk_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_desk_links_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_desk_links")),
        sa.UniqueConstraint("secret_hash", name=op.f("uq_desk_links_secret_hash")),
    )
    with op.batch_alter_table("desk_links", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_desk_links_desk_id"), ["desk_id"], unique=False)
        batch_op.create_index(batch_op.f("ix_desk_links_team_id"), ["team_id"], unique=False)

    op.create_table(
        "desk_versions",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("desk_id", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("note", sa.String(), nullable=False),
        sa.Column("author", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["desk_id"], ["desks.id"], name=op.f("fk_desk_versions_desk_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_desk_versions_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_desk_versions")),
        sa.UniqueConstraint("desk_id", "number", name=op.f("uq_desk_versions_desk_id_number")),
    )
    with op.batch_alter_table("desk_versions", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_desk_versions_team_id"), ["team_id"], unique=False)

    op.create_table(
        "feedback",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("desk_id", sa.String(), nullable=True),
        sa.Column("turn_id", sa.String(), nullable=False),
        sa.Column("citation", sa.Integer(), nullable=False),
        sa.Column("asker", sa.String(), nullable=False),
        sa.Column("helpful", sa.Boolean(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("comment", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_feedback_team_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["turn_id"], ["turns.id"], name=op.f("fk_feedback_turn_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_feedback")),
        sa.UniqueConstraint(
            "turn_id", "citation", "asker", name=op.f("uq_feedback_turn_id_citation_asker")
        ),
    )
    with op.batch_alter_table("feedback", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_feedback_desk_id"), ["desk_id"], unique=False)
        batch_op.create_index(batch_op.f("ix_feedback_team_id"), ["team_id"], unique=False)

    with op.batch_alter_table("conversations", schema=None) as batch_op:
        batch_op.add_column(sa.Column("desk_id", sa.String(), nullable=True))
        batch_op.alter_column("kb_id", nullable=True)
        batch_op.create_index(
            batch_op.f("ix_conversations_changed_at"), ["changed_at"], unique=False
        )
        batch_op.create_index(batch_op.f("ix_conversations_desk_id"), ["desk_id"], unique=False)
        batch_op.create_foreign_key(
            batch_op.f("fk_conversations_desk_id"), "desks", ["desk_id"], ["id"], ondelete="CASCADE"
        )

    with op.batch_alter_table("teams", schema=None) as batch_op:
        batch_op.add_column(sa.Column("kept_days", sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column("monthly_tokens", sa.Integer(), nullable=True))

    with op.batch_alter_table("turns", schema=None) as batch_op:
        batch_op.add_column(
            sa.Column("state", sa.String(length=20), server_default="done", nullable=False)
        )
        batch_op.add_column(sa.Column("desk_id", sa.String(), nullable=True))
        batch_op.add_column(sa.Column("desk_version", sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column("asker", sa.String(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("asked_key", sa.String(), nullable=True))
        batch_op.add_column(sa.Column("note", sa.String(), server_default="", nullable=False))
        batch_op.add_column(sa.Column("settings", sa.JSON(), nullable=True))
        batch_op.add_column(sa.Column("editions", sa.JSON(), nullable=True))
        batch_op.add_column(sa.Column("steps", sa.JSON(), nullable=True))
        batch_op.add_column(sa.Column("statements", sa.JSON(), nullable=True))
        batch_op.add_column(sa.Column("prompt", sa.JSON(), nullable=True))
        batch_op.add_column(sa.Column("raw", sa.String(), server_default="", nullable=False))
        batch_op.add_column(
            sa.Column("tokens_read", sa.Integer(), server_default="0", nullable=False)
        )
        batch_op.add_column(
            sa.Column("tokens_written", sa.Integer(), server_default="0", nullable=False)
        )
        batch_op.add_column(sa.Column("cost", sa.Double(), server_default="0", nullable=False))
        batch_op.create_index("ix_turns_asked", ["asker", "asked_key"], unique=True)
        batch_op.create_index("ix_turns_desk", ["desk_id", "created_at"], unique=False)
        batch_op.create_index(batch_op.f("ix_turns_state"), ["state"], unique=False)

    with op.batch_alter_table("notices", schema=None) as batch_op:
        batch_op.alter_column("kb_id", nullable=True)
    op.execute(
        "update turns set asker = (select asker from conversations where conversations.id ="
        " turns.conversation_id)"
    )
