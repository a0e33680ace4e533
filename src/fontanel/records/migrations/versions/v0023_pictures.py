"""Pictures of revisions, and what models say about them."""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"


def upgrade() -> None:
    op.add_column("kbs", sa.Column("viewer", sa.String(), nullable=True))
    op.add_column(
        "kbs", sa.Column("max_pictures", sa.Integer(), nullable=False, server_default="20")
    )
    op.add_column("revisions", sa.Column("pictures", sa.Integer(), nullable=True))
    op.add_column("revisions", sa.Column("viewed_by", sa.String(), nullable=True))
    op.create_table(
        "revision_pictures",
        sa.Column("revision_id", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False),
        *(
            sa.ForeignKeyConstraint(
                [f"{one}_id"],
                [f"{one}s.id"],
                name=op.f(f"fk_revision_pictures_{one}_id_{one}s"),
                ondelete="CASCADE",
            )
            for one in ("revision", "team", "kb")
        ),
        sa.PrimaryKeyConstraint("revision_id", "number", name=op.f("pk_revision_pictures")),
    )
    for column in ("team_id", "kb_id", "sha256"):
        op.create_index(op.f(f"ix_revision_pictures_{column}"), "revision_pictures", [column])
    op.create_table(
        "picture_descriptions",
        sa.Column("key", sa.Integer(), autoincrement=True, nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("model", sa.String(), nullable=False),
        sa.Column("blob", sa.String(), nullable=True),
        sa.Column("description", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("again_at", sa.DateTime(), nullable=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["team_id"],
            ["teams.id"],
            name=op.f("fk_picture_descriptions_team_id_teams"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_picture_descriptions")),
        sa.UniqueConstraint(
            "team_id", "sha256", "model", name=op.f("uq_picture_descriptions_team_id_sha256_model")
        ),
    )
    op.create_index(op.f("ix_picture_descriptions_team_id"), "picture_descriptions", ["team_id"])
