"""Find the passages of a document or a revision without reading the whole edition."""

from alembic import op

revision = "0026"
down_revision = "0025"


def upgrade() -> None:
    for noun, column in (("document", "document_key"), ("revision", "revision_id")):
        op.create_index(f"ix_passages_of_{noun}", "passages", [column, "edition_id"])
        op.drop_index(f"ix_passages_{column}", "passages")
