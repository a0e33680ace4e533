"""Transcribers, transcripts of recordings, and the recordings' durations."""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"


def upgrade() -> None:
    op.add_column("kbs", sa.Column("transcriber", sa.String(), nullable=True))
    op.add_column("kbs", sa.Column("spoken", sa.String(), nullable=True))
    op.add_column("revisions", sa.Column("duration", sa.Double(), nullable=True))
    op.create_table(
        "transcribers",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("remote", sa.String(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=True),
        sa.Column("price", sa.Double(), nullable=False),
        sa.Column("part_seconds", sa.Double(), nullable=False),
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
        sa.PrimaryKeyConstraint("id", name=op.f("pk_transcribers")),
        sa.UniqueConstraint("name", name=op.f("uq_transcribers_name")),
    )
    op.create_table(
        "transcript_parts",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("transcriber", sa.String(), nullable=False),
        sa.Column("spoken", sa.String(), nullable=False),
        sa.Column("start", sa.Double(), nullable=False),
        sa.Column("end", sa.Double(), nullable=False),
        sa.Column("last", sa.Boolean(), nullable=False),
        sa.Column("cues", sa.JSON(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"],
            ["teams.id"],
            name=op.f("fk_transcript_parts_team_id_teams"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_transcript_parts")),
    )
    op.create_index(op.f("ix_transcript_parts_team_id"), "transcript_parts", ["team_id"])
    op.create_index(
        "ix_transcript_parts_recording",
        "transcript_parts",
        ["team_id", "sha256", "transcriber", "spoken"],
    )
