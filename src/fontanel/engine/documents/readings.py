"""What reading a document yielded, as stored."""

from __future__ import annotations

import json

from sqlalchemy.orm import Session

from fontanel.records.blobs import BlobStore
from fontanel.records.tables import (
    Revision,
)


def reading_text(session: Session, blobs: BlobStore, team_id: str, revision_id: str) -> str | None:
    """The text of a revision of the team; None when it is gone, or was never read."""
    revision = session.get(Revision, revision_id)
    if revision is None or revision.team_id != team_id or revision.reading is None:
        return None
    text: str = json.loads(blobs.read(revision.reading))["text"]
    return text
