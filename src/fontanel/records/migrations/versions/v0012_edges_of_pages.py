"""What repeats at the edges of web pages."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.create_table(
        "page_edges",
        sa.Column("document_key", sa.Integer(), nullable=False),
        sa.Column("team_id", sa.String(), nullable=False),
        sa.Column("kb_id", sa.String(), nullable=False),
        sa.Column("collection", sa.String(), nullable=False),
        sa.Column("fingerprints", sa.JSON(), nullable=False),
        sa.Column("left_out", sa.JSON(), nullable=False),
        *(
            sa.ForeignKeyConstraint(
                [column], [target], name=op.f(f"fk_page_edges_{column}"), ondelete="CASCADE"
            )
            for column, target in (
                ("document_key", "documents.key"),
                ("team_id", "teams.id"),
                ("kb_id", "kbs.id"),
            )
        ),
        sa.PrimaryKeyConstraint("document_key", name=op.f("pk_page_edges")),
    )
    op.create_index(op.f("ix_page_edges_team_id"), "page_edges", ["team_id"])
    op.create_index("ix_page_edges_collection", "page_edges", ["kb_id", "collection"])
