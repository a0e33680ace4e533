"""Index changes and states of documents."""

from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.create_index("ix_documents_changed", "documents", ["kb_id", "changed_at"], unique=False)
    op.create_index("ix_documents_state", "documents", ["kb_id", "state"], unique=False)
    # Both begin with what this one holds.
    op.drop_index("ix_documents_kb_id", "documents")
