"""Keep sources, their runs, and notices of them."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "receivers",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=False),
        sa.Column("kinds", sa.JSON(), nullable=False),
        sa.Column("paused", sa.Boolean(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_receivers_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_receivers")),
    )
    op.create_index(op.f("ix_receivers_team_id"), "receivers", ["team_id"], unique=False)
    op.create_table(
        "sources",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("folder", sa.String(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("credentials", sa.LargeBinary(), nullable=True),
        sa.Column("credential_names", sa.JSON(), nullable=False),
        sa.Column("tag_rules", sa.JSON(), nullable=False),
        sa.Column("every_minutes", sa.Integer(), nullable=True),
        sa.Column("cron", sa.String(), nullable=True),
        sa.Column("target_minutes", sa.Integer(), nullable=False),
        sa.Column("guard_share", sa.Double(), nullable=False),
        sa.Column("guard_least", sa.Integer(), nullable=False),
        sa.Column("paused", sa.Boolean(), nullable=False),
        sa.Column("signal_secret", sa.LargeBinary(), nullable=False),
        sa.Column("next_run_at", sa.DateTime(), nullable=True),
        sa.Column("looked_at", sa.DateTime(), nullable=True),
        sa.Column("failing_since", sa.DateTime(), nullable=True),
        sa.Column("failures", sa.Integer(), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("late_since", sa.DateTime(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["kb_id"], ["kbs.id"], name=op.f("fk_sources_kb_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_sources_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_sources")),
        sa.UniqueConstraint("kb_id", "folder", name=op.f("uq_sources_kb_id_folder")),
    )
    op.create_index(op.f("ix_sources_kb_id"), "sources", ["kb_id"], unique=False)
    op.create_index(op.f("ix_sources_next_run_at"), "sources", ["next_run_at"], unique=False)
    op.create_index(op.f("ix_sources_team_id"), "sources", ["team_id"], unique=False)
    op.create_table(
        "notices",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("source_id", sa.String(), nullable=True),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("message", sa.String(), nullable=False),
        sa.Column("data", sa.JSON(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["kb_id"], ["kbs.id"], name=op.f("fk_notices_kb_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["source_id"], ["sources.id"], name=op.f("fk_notices_source_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_notices_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_notices")),
    )
    op.create_index(op.f("ix_notices_created_at"), "notices", ["created_at"], unique=False)
    op.create_index(op.f("ix_notices_kb_id"), "notices", ["kb_id"], unique=False)
    op.create_index(op.f("ix_notices_source_id"), "notices", ["source_id"], unique=False)
    op.create_index(op.f("ix_notices_team_id"), "notices", ["team_id"], unique=False)
    op.create_table(
        "source_items",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("source_id", sa.String(), nullable=False),
        sa.Column("item_id", sa.String(), nullable=False),
        sa.Column("document_key", sa.Integer(), nullable=True),
        sa.Column("mark", sa.String(), nullable=False),
        sa.Column("same_as", sa.String(), nullable=False),
        sa.Column("notes", sa.JSON(), nullable=True),
        sa.Column("error", sa.String(), nullable=True),
        sa.ForeignKeyConstraint(
            ["document_key"],
            ["documents.key"],
            name=op.f("fk_source_items_document_key"),
            ondelete="SET NULL",
        ),
        sa.ForeignKeyConstraint(
            ["source_id"],
            ["sources.id"],
            name=op.f("fk_source_items_source_id"),
            ondelete="CASCADE",
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_source_items_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_source_items")),
        sa.UniqueConstraint("source_id", "item_id", name=op.f("uq_source_items_source_id_item_id")),
    )
    op.create_index(
        op.f("ix_source_items_document_key"), "source_items", ["document_key"], unique=False
    )
    op.create_index(op.f("ix_source_items_team_id"), "source_items", ["team_id"], unique=False)
    op.create_table(
        "syncs",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("source_id", sa.String(), nullable=False),
        sa.Column("cause", sa.String(), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("stage", sa.String(), nullable=False),
        sa.Column("confirmed", sa.Boolean(), nullable=False),
        sa.Column("held_for", sa.String(), nullable=True),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("seen", sa.Integer(), nullable=False),
        sa.Column("expected", sa.Integer(), nullable=False),
        sa.Column("unchanged", sa.Integer(), nullable=False),
        sa.Column("added", sa.Integer(), nullable=False),
        sa.Column("changed", sa.Integer(), nullable=False),
        sa.Column("moved", sa.Integer(), nullable=False),
        sa.Column("removed", sa.Integer(), nullable=False),
        sa.Column("skipped", sa.Integer(), nullable=False),
        sa.Column("failed", sa.Integer(), nullable=False),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.Column("skip_reasons", sa.JSON(), nullable=False),
        sa.Column("seconds", sa.JSON(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("started_at", sa.DateTime(), nullable=True),
        sa.Column("finished_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(
            ["kb_id"], ["kbs.id"], name=op.f("fk_syncs_kb_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["source_id"], ["sources.id"], name=op.f("fk_syncs_source_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_syncs_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_syncs")),
    )
    op.create_index(op.f("ix_syncs_kb_id"), "syncs", ["kb_id"], unique=False)
    op.create_index("ix_syncs_source", "syncs", ["source_id", "created_at"], unique=False)
    op.create_index(op.f("ix_syncs_state"), "syncs", ["state"], unique=False)
    op.create_index(op.f("ix_syncs_team_id"), "syncs", ["team_id"], unique=False)
    op.create_table(
        "deliveries",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("receiver_id", sa.String(), nullable=False),
        sa.Column("notice_id", sa.String(), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("run_after", sa.DateTime(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("sent_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(
            ["notice_id"], ["notices.id"], name=op.f("fk_deliveries_notice_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["receiver_id"],
            ["receivers.id"],
            name=op.f("fk_deliveries_receiver_id"),
            ondelete="CASCADE",
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_deliveries_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_deliveries")),
    )
    op.create_index(op.f("ix_deliveries_notice_id"), "deliveries", ["notice_id"], unique=False)
    op.create_index(op.f("ix_deliveries_receiver_id"), "deliveries", ["receiver_id"], unique=False)
    op.create_index(op.f("ix_deliveries_team_id"), "deliveries", ["team_id"], unique=False)
    op.create_table(
        "sync_items",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("sync_id", sa.String(), nullable=False),
        sa.Column("item_id", sa.String(), nullable=False),
        sa.Column("outcome", sa.String(20), nullable=False),
        sa.Column("reason", sa.String(), nullable=True),
        sa.Column("document_key", sa.Integer(), nullable=True),
        sa.Column("revision_id", sa.String(), nullable=True),
        sa.Column("bytes", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["sync_id"], ["syncs.id"], name=op.f("fk_sync_items_sync_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_sync_items_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_sync_items")),
        sa.UniqueConstraint("sync_id", "item_id", name=op.f("uq_sync_items_sync_id_item_id")),
    )
    op.create_index(op.f("ix_sync_items_team_id"), "sync_items", ["team_id"], unique=False)
    op.add_column("documents", sa.Column("source_id", sa.String(), nullable=True))
    op.add_column("documents", sa.Column("link", sa.String(), server_default="", nullable=False))
    op.create_index(op.f("ix_documents_source_id"), "documents", ["source_id"], unique=False)
    op.add_column("members", sa.Column("notices_seen_at", sa.DateTime(), nullable=True))
    op.add_column(
        "revisions", sa.Column("embedded", sa.Integer(), server_default="0", nullable=False)
    )
    op.add_column("revisions", sa.Column("source_changed_at", sa.DateTime(), nullable=True))
    op.add_column("revisions", sa.Column("answerable_at", sa.DateTime(), nullable=True))
    op.add_column(
        "teams", sa.Column("time_zone", sa.String(), server_default="UTC", nullable=False)
    )
