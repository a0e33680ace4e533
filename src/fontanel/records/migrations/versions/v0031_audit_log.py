"""The audit log."""

import sqlalchemy as sa
from alembic import op

revision = "0031"
down_revision = "0030"

_COVERED = (
    "key, log, number, at, actor_kind, actor_id, action, target, changes, outcome, problem, count,"
    " request_id, who_hash, previous, hash"
)


def upgrade() -> None:
    op.create_table(
        "audit_logs",
        sa.Column("log", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("hash", sa.String(), nullable=False),
        sa.Column("trimmed", sa.Integer(), nullable=False),
        sa.Column("trimmed_hash", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("log", name="pk_audit_logs"),
    )
    op.create_table(
        "audit_entries",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("log", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        *(
            sa.Column(name, sa.String(), nullable=False)
            for name in ("actor_kind", "actor_id", "action", "target")
        ),
        sa.Column("changes", sa.JSON(), nullable=False),
        sa.Column("outcome", sa.String(), nullable=False),
        sa.Column("problem", sa.String(), nullable=True),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("request_id", sa.String(), nullable=True),
        sa.Column("who", sa.JSON(), nullable=True),
        sa.Column("salt", sa.String(), nullable=True),
        *(
            sa.Column(name, sa.String(), nullable=False)
            for name in ("who_hash", "previous", "hash")
        ),
        sa.PrimaryKeyConstraint("key", name="pk_audit_entries"),
        sa.UniqueConstraint("log", "number", name="uq_audit_entries_log_number"),
        sqlite_autoincrement=True,
    )
    op.create_index("ix_audit_entries_actor", "audit_entries", ["actor_id", "key"])
    op.create_index("ix_audit_entries_at", "audit_entries", ["at"])
    op.create_table(
        "audit_forwarding",
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("key", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("address", name="pk_audit_forwarding"),
    )
    op.execute(
        f"CREATE TRIGGER audit_entries_unchanged BEFORE UPDATE OF {_COVERED} ON audit_entries"
        " BEGIN SELECT RAISE(ABORT, 'audit entries cannot be changed'); END"
    )
    op.execute(
        "CREATE TRIGGER audit_entries_erased BEFORE UPDATE OF who, salt ON audit_entries"
        " WHEN NEW.who IS NOT NULL OR NEW.salt IS NOT NULL"
        " BEGIN SELECT RAISE(ABORT, 'audit entries cannot be changed'); END"
    )
    op.execute(
        "CREATE TRIGGER audit_entries_kept BEFORE DELETE ON audit_entries"
        " WHEN OLD.number > (SELECT trimmed FROM audit_logs WHERE audit_logs.log = OLD.log)"
        " BEGIN SELECT RAISE(ABORT, 'audit entries cannot be deleted'); END"
    )
