"""Let models describe documents, and let an edition take over once it is built."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("kbs", sa.Column("describer", sa.String(), nullable=True))
    op.add_column("documents", sa.Column("described_by", sa.String(), nullable=True))
    op.add_column(
        "editions", sa.Column("takes_over", sa.Boolean(), server_default="0", nullable=False)
    )
    op.create_table(
        "descriptions",
        sa.Column("revision_id", sa.String(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("model", sa.String(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("description", sa.String(), nullable=False),
        sa.Column("error", sa.String(), nullable=True),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("again_at", sa.DateTime(), nullable=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["kb_id"], ["kbs.id"], name=op.f("fk_descriptions_kb_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["revision_id"],
            ["revisions.id"],
            name=op.f("fk_descriptions_revision_id"),
            ondelete="CASCADE",
        ),
        sa.ForeignKeyConstraint(
            ["team_id"], ["teams.id"], name=op.f("fk_descriptions_team_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("revision_id", name=op.f("pk_descriptions")),
    )
    op.create_index(op.f("ix_descriptions_kb_id"), "descriptions", ["kb_id"], unique=False)
    op.create_index(op.f("ix_descriptions_team_id"), "descriptions", ["team_id"], unique=False)
