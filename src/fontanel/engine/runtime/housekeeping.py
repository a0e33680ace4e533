"""Housekeeping: removing what has expired, and checks that are made now and then."""

from __future__ import annotations

import time
from datetime import timedelta

import structlog
from sqlalchemy import delete, func, select

from fontanel.engine.answering.models import check_models
from fontanel.engine.auditing.noting import AuditNotes
from fontanel.engine.channels.channels import delete_old_messages
from fontanel.engine.documents.validity import search_earlier_revisions
from fontanel.engine.notices.deliveries import Deliveries
from fontanel.engine.pictures.found import delete_unused_pictures
from fontanel.engine.quotas.watching import watch_quotas
from fontanel.engine.runtime.retention import apply_retention
from fontanel.engine.sync.freshness import watch_freshness
from fontanel.engine.transcription.transcripts import delete_unused_transcripts
from fontanel.llm import ModelClient
from fontanel.records.audit import Acting, trim, write_entry
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import (
    Document,
    DocumentState,
    IdempotentReply,
    Kb,
    PictureDescription,
    Revision,
    SignIn,
    now,
)
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault

log = structlog.get_logger()

#: Seconds before an unreferenced blob is deleted, since its record may be about to be written.
_BLOB_GRACE = 3600.0
#: Seconds between two checks of whether models can be reached.
_CHECK_MODELS = 60.0
#: Seconds between two looks for quotas that are nearly used up.
_WATCH_QUOTAS = 15.0
#: The retention of idempotent replies.
_REPLIES_KEPT = timedelta(days=1)
#: Documents that are deleted in one unit of work.
_BATCH = 500


class Housekeeping:
    """Removes what has expired. `run` is called every few seconds."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        vault: Vault,
        models: ModelClient,
        deliveries: Deliveries,
        removed_days: int,
        audit_notes: AuditNotes,
        audit_days: int,
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._vault = vault
        self._models = models
        self._deliveries = deliveries
        self._removed_days = removed_days
        self._audit_notes = audit_notes
        self._audit_days = audit_days
        self._models_checked: float | None = None
        self._quotas_watched: float | None = None
        self._swept: float | None = None
        #: Whether an earlier version of the service may have left revisions to search.
        self._earlier_revisions = True

    def run(self) -> None:
        """Do everything that is due."""
        self.delete_expired_kbs()
        self.delete_removed_documents()
        if self._earlier_revisions:
            self._earlier_revisions = search_earlier_revisions(self._records, self._blobs)
        watch_freshness(self._records)
        self._audit_notes.flush()
        moment = time.monotonic()
        if self._quotas_watched is None or moment - self._quotas_watched > _WATCH_QUOTAS:
            self._quotas_watched = moment
            watch_quotas(self._records)
        if self._models_checked is None or moment - self._models_checked > _CHECK_MODELS:
            self._models_checked = moment
            check_models(self._records, self._models, self._vault)
        if self._swept is None or moment - self._swept > _BLOB_GRACE:
            self._swept = moment
            apply_retention(self._records)
            self.delete_unused_texts()
            self.delete_unused_blobs()
            self.delete_expired_sign_ins()
            self._deliveries.delete_old()
            delete_old_messages(self._records)
            self.trim_audit_log()

    def trim_audit_log(self) -> None:
        """Delete entries of the audit log that are older than they are kept, and record that."""
        if not self._audit_days:
            return
        with self._records.auditing() as session:
            deleted = trim(session, now() - timedelta(days=self._audit_days))
            if deleted:
                write_entry(session, Acting("audit.trim", kind="machine"), [{"entries": deleted}])

    def delete_expired_kbs(self) -> None:
        """Delete temporary knowledge bases that have expired."""
        expired = select(Kb).where(Kb.expires_at <= now())
        with self._records.reading() as session:
            if session.scalar(expired.limit(1)) is None:
                return
        with self._records.writing() as session:
            for kb in session.scalars(expired).all():
                session.delete(kb)
                log.info("temporary knowledge base deleted", kb=kb.id)

    def delete_expired_sign_ins(self) -> None:
        """Delete sign-ins and stored replies that have expired."""
        with self._records.writing() as session:
            session.execute(delete(SignIn).where(SignIn.expires_at <= now()))
            session.execute(
                delete(IdempotentReply).where(IdempotentReply.created_at <= now() - _REPLIES_KEPT)
            )

    def delete_removed_documents(self) -> None:
        """Delete documents that left their source long ago."""
        long_ago = now() - timedelta(days=self._removed_days)
        # Few documents are removed: naming all knowledge bases lets the index of states find them.
        removed = func.unlikely(Document.state == DocumentState.REMOVED)
        due = select(Document).where(
            Document.kb_id.in_(select(Kb.id)), removed, Document.changed_at <= long_ago
        )
        with self._records.reading() as session:
            if session.scalar(due.limit(1)) is None:
                return
        with self._records.writing() as session:
            for document in session.scalars(due.limit(_BATCH)).all():
                session.delete(document)

    def delete_unused_texts(self) -> None:
        """Delete transcripts and descriptions of what no revision has."""
        with self._records.writing() as session:
            delete_unused_transcripts(session)
            delete_unused_pictures(session)

    def delete_unused_blobs(self) -> None:
        """Delete blobs that no revision refers to."""
        with self._records.reading() as session:
            kept = Revision.original_deleted_at.is_(None)
            used = {*session.scalars(select(Revision.sha256).where(kept))}
            used |= {sha for sha in session.scalars(select(Revision.reading)) if sha}
            used |= {sha for sha in session.scalars(select(PictureDescription.blob)) if sha}
        deleted = self._blobs.sweep(used, older_than=_BLOB_GRACE)
        if deleted:
            log.info("blobs deleted", blobs=deleted)
