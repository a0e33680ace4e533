"""What an erased document left outside the records: files, cached vectors, segments."""

from __future__ import annotations

import structlog
from sqlalchemy import select

from fontanel.engine.editions.store import Editions
from fontanel.engine.erasing.documents import chunks, forget_documents
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import Edition, Erasure, PictureDescription, Revision
from fontanel.records.tables.base import now
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache

log = structlog.get_logger()

#: Seconds in which the same bytes may have been uploaded again without being recorded yet.
_GRACE = 60.0


class Leftovers:
    """Clears what is left of erased documents, also after an interruption."""

    def __init__(
        self, records: Records, blobs: BlobStore, vectors: VectorCache, editions: Editions
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._vectors = vectors
        self._editions = editions

    def clear_next(self) -> bool:
        """Clear what is left of one document; return whether there may be more to do."""
        unfinished = select(Erasure).where(Erasure.finished_at.is_(None))
        with self._records.reading() as session:
            erasure = session.scalar(unfinished.order_by(Erasure.created_at).limit(1))
        if erasure is None:
            return False
        remains = erasure.remains
        assert erasure.team_id is not None
        for edition_id in self._existing(remains["editions"]):
            self._editions.purge(edition_id)
        keys = [bytes.fromhex(key) for key in remains["vectors"]]
        cleared = {"vectors": self._vectors.forget(erasure.team_id, keys) if keys else 0}
        unused = self._unused(remains["files"])
        waiting = [sha for sha in unused if not self._blobs.delete(sha, _GRACE)]
        cleared["files"] = len(unused) - len(waiting)
        indexed = remains["editions"] or remains["vectors"]
        if waiting and not indexed and len(waiting) == len(remains["files"]):
            return False
        with self._records.writing() as session:
            row = session.get(Erasure, erasure.id)
            if row is None:
                return True
            if not waiting:
                # Answers that were under way have been stored by now.
                cleared |= forget_documents(session, erasure.team_id, set(remains["documents"]))
            counts = {kind: count for kind, count in cleared.items() if count}
            row.removed = {
                kind: row.removed.get(kind, 0) + counts.get(kind, 0)
                for kind in {**row.removed, **counts}
            }
            row.remains = {**remains, "editions": [], "vectors": [], "files": waiting}
            if not waiting:
                row.remains, row.finished_at = {}, now()
        with self._records.engine.connect() as connection:
            # The log of earlier changes is emptied too.
            connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        if not waiting:
            log.info("document erased", erasure=erasure.id)
        return not waiting

    def _existing(self, edition_ids: list[str]) -> list[str]:
        with self._records.reading() as session:
            return list(session.scalars(select(Edition.id).where(Edition.id.in_(edition_ids))))

    def _unused(self, files: list[str]) -> list[str]:
        """Return the files that no other document has."""
        with self._records.reading() as session:
            used: set[str | None] = set()
            for some in chunks(files):
                for column in (Revision.sha256, Revision.reading, PictureDescription.blob):
                    used |= set(session.scalars(select(column).where(column.in_(some))))
        return [sha for sha in files if sha not in used]
