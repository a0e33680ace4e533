"""Add invitations, password links, grants, sign-ins and change numbers."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.create_table(
        "invitations",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("email", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("role", sa.String(length=20), nullable=False),
        sa.Column("secret_hash", sa.String(), nullable=False),
        sa.Column("invited_by", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("expires_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_invitations_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_invitations")),
        sa.UniqueConstraint("secret_hash", name=op.f("uq_invitations_secret_hash")),
        sa.UniqueConstraint("team_id", "email", name=op.f("uq_invitations_team_id_email")),
    )
    op.create_index(op.f("ix_invitations_team_id"), "invitations", ["team_id"], unique=False)
    op.create_table(
        "password_links",
        sa.Column("secret_hash", sa.String(), nullable=False),
        sa.Column("person_id", sa.String(), nullable=False),
        sa.Column("expires_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["person_id"],
            ["people.id"],
            name=op.f("fk_password_links_person_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("secret_hash", name=op.f("pk_password_links")),
    )
    op.create_index(
        op.f("ix_password_links_person_id"), "password_links", ["person_id"], unique=False
    )
    op.add_column("sign_ins", sa.Column("id", sa.String(), server_default="", nullable=False))
    op.execute("UPDATE sign_ins SET id = 'sess_' || substr(token_hash, 1, 16)")
    op.add_column("sign_ins", sa.Column("address", sa.String(), server_default="", nullable=False))
    op.add_column("sign_ins", sa.Column("agent", sa.String(), server_default="", nullable=False))
    op.add_column("keys", sa.Column("made_by", sa.String(), server_default="", nullable=False))
    op.add_column(
        "keys", sa.Column("by_operator", sa.Boolean(), server_default="0", nullable=False)
    )
    # Teams from before keep what the operator allowed to all.
    op.add_column("teams", sa.Column("source_folders", sa.JSON(), nullable=True))
    op.add_column("teams", sa.Column("source_networks", sa.JSON(), nullable=True))
    op.add_column("turns", sa.Column("asked_hash", sa.String(), server_default="", nullable=False))
    op.add_column(
        "documents", sa.Column("change", sa.Integer(), server_default="0", nullable=False)
    )
    op.execute("UPDATE documents SET change = key")
    op.create_index("ix_jobs_by_team", "jobs", ["state", "stage", "team_id"], unique=False)
    op.create_index("ix_documents_change", "documents", ["kb_id", "change"], unique=False)
