"""Maintaining editions.

Rebuild damaged ones, replace outdated ones, activate those built.
"""

from __future__ import annotations

import structlog
from sqlalchemy import select

from fontanel.core.index.files import SegmentDamaged
from fontanel.engine.editions.lifecycle import promote_successors, renew_outdated
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.reindex import reindex_all
from fontanel.records.tables import Edition
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()


class EditionMaintenance:
    """Checks every edition at the start, and promotes successors once they are built."""

    def __init__(self, records: Records, editions: Editions, embedder: str | None) -> None:
        self._records = records
        self._editions = editions
        self._embedder = embedder

    def check_all(self) -> None:
        """Open every edition. Rebuild damaged ones, and build successors of outdated ones."""
        self._editions.sweep(self.rebuild)
        with self._records.writing() as session:
            for edition in renew_outdated(session, self._embedder):
                log.warning(
                    "edition is outdated",
                    kb=edition.kb_id,
                    successor=edition.id,
                    embedder=edition.embedder,
                )
        with self._records.reading() as session:
            edition_ids = session.scalars(select(Edition.id)).all()
        for edition_id in edition_ids:
            try:
                self._editions.refresh(edition_id)
            except SegmentDamaged as error:
                log.warning("edition damaged", edition=edition_id, error=str(error))
                self.rebuild(edition_id)

    def rebuild(self, edition_id: str) -> None:
        """Index an edition from scratch, from stored readings and cached vectors."""
        with self._records.writing() as session:
            count = reindex_all(session, edition_id)
        log.warning("edition is being rebuilt", edition=edition_id, documents=count)

    def verify_next(self) -> bool:
        """Compare one segment file with its checksum; return whether there was one left."""
        return self._editions.verify_round(self.rebuild)

    def promote(self) -> None:
        """Make successors that are built the active editions, and drop those they replace."""
        with self._records.reading() as session:
            if (
                session.scalar(select(Edition.id).where(Edition.replaces_active.is_(True)).limit(1))
                is None
            ):
                return
        with self._records.writing() as session:
            promoted = promote_successors(session)
        for kb_id, edition_id, replaced in promoted:
            log.info("edition promoted", kb=kb_id, edition=edition_id, replaced=replaced)
