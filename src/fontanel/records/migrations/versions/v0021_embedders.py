"""Embedders that operators registered, and which one a job waits for."""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"


def upgrade() -> None:
    op.add_column("jobs", sa.Column("embedder", sa.String(), nullable=True))
    op.execute(
        "UPDATE jobs SET embedder = (SELECT editions.embedder FROM editions JOIN kbs"
        " ON kbs.id = editions.kb_id WHERE kbs.id = jobs.kb_id"
        " AND editions.id = coalesce(jobs.edition_id, kbs.edition_id)) WHERE stage = 'embed'"
    )
    op.drop_index("ix_jobs_by_team", "jobs")
    op.create_index("ix_jobs_by_team", "jobs", ["state", "stage", "embedder", "team_id"])
    op.create_table(
        "embedders",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("remote", sa.String(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=True),
        sa.Column("dimensions", sa.Integer(), nullable=False),
        sa.Column("cut", sa.Boolean(), nullable=False),
        sa.Column("question_prefix", sa.String(), nullable=False),
        sa.Column("passage_prefix", sa.String(), nullable=False),
        sa.Column("factor", sa.Double(), nullable=False),
        sa.Column("offset", sa.Double(), nullable=False),
        sa.Column("batch", sa.Integer(), nullable=False),
        sa.Column("at_once", sa.Integer(), nullable=False),
        sa.Column("price", sa.Double(), nullable=False),
        sa.Column("removed_at", sa.DateTime(), nullable=True),
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
        sa.PrimaryKeyConstraint("id", name=op.f("pk_embedders")),
        sa.UniqueConstraint("name", name=op.f("uq_embedders_name")),
    )
