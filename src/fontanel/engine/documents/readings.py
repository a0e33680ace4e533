"""What reading a document yielded, as it is stored: a blob of JSON."""

from __future__ import annotations

import json

from sqlalchemy.orm import Session

from fontanel.core.reading import Reading
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import Revision


def store_reading(blobs: BlobStore, reading: Reading) -> str:
    """Store a reading and return its blob's sha256."""
    data = json.dumps(reading.to_dict(), ensure_ascii=False).encode(errors="replace")
    return blobs.put([data])[0]


def load_reading(blobs: BlobStore, sha256: str) -> Reading:
    """Return a stored reading."""
    return Reading.from_dict(json.loads(blobs.read(sha256)))


def reading_of(blobs: BlobStore, revision: Revision) -> Reading | None:
    """Return a revision's reading; None when it was never read."""
    return None if revision.reading is None else load_reading(blobs, revision.reading)


def reading_text(session: Session, blobs: BlobStore, team_id: str, revision_id: str) -> str | None:
    """Return the text of a revision of the team; None if it is gone or was never read."""
    revision = session.get(Revision, revision_id)
    if revision is None or revision.team_id != team_id:
        return None
    reading = reading_of(blobs, revision)
    return None if reading is None else reading.text
