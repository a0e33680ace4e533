"""Sources and their freshness as the API returns them."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.answering.budgets import tokens_and_cost
from fontanel.engine.sync.freshness import Freshness, freshness_of
from fontanel.records.tables import (
    SETTLED_STATES,
    Document,
    DocumentState,
    Revision,
    Source,
    Sync,
    SyncItem,
    Use,
)
from fontanel.schemas import (
    FreshnessOut,
    SourceOut,
    SyncOut,
    TagRule,
)


def freshness_out(source: Source, freshness: Freshness) -> FreshnessOut:
    return FreshnessOut(
        state=freshness.state,
        target_minutes=source.target_minutes,
        as_of=freshness.as_of,
        late_since=freshness.late_since,
        pending=freshness.pending,
        measured=freshness.measured,
        within=freshness.within,
        median_seconds=freshness.median_seconds,
        worst_seconds=freshness.worst_seconds,
    )


def _documents(session: Session, source: Source) -> int:
    stored = select(func.count()).where(
        Document.source_id == source.id, Document.state != DocumentState.REMOVED
    )
    return session.scalar(stored) or 0


def source_out(session: Session, source: Source) -> SourceOut:
    return SourceOut(
        id=source.id,
        kb_id=source.kb_id,
        name=source.name,
        kind=source.kind,
        folder=source.folder,
        settings=source.settings,
        credentials=source.credential_names,
        tag_rules=[TagRule(**rule) for rule in source.tag_rules],
        every_minutes=source.every_minutes,
        cron=source.cron,
        target_minutes=source.target_minutes,
        guard_share=source.guard_share,
        guard_min=source.guard_min,
        paused=source.paused,
        next_run_at=None if source.paused else source.next_run_at,
        failing_since=source.failing_since,
        error=source.error,
        documents=_documents(session, source),
        freshness=freshness_out(source, freshness_of(session, source)),
        recent=_recent(session, source),
        created_at=source.created_at,
        changed_at=source.changed_at,
        version=source.version,
    )


def _recent(session: Session, source: Source) -> list[SyncOut]:
    recent = (
        select(Sync)
        .where(Sync.source_id == source.id)
        .order_by(Sync.created_at.desc())
        .limit(_RECENT)
    )
    return [sync_out(session, sync) for sync in session.scalars(recent)]


def sync_out(session: Session, sync: Sync) -> SyncOut:
    taken = (
        select(
            func.count().filter(
                Document.state.not_in(SETTLED_STATES), Document.latest_revision_id == Revision.id
            ),
            func.coalesce(func.sum(func.json_extract(Revision.report, "$.words")), 0),
            func.coalesce(func.sum(Revision.passages), 0),
            func.coalesce(func.sum(Revision.embedded), 0),
            *(func.sum(func.json_extract(Revision.seconds, f"$.{stage}")) for stage in _STAGES),
        )
        .select_from(SyncItem)
        .join(Revision, Revision.id == SyncItem.revision_id)
        .join(Document, Document.key == Revision.document_key)
    )
    indexing, words, passages, embedded, *spent = session.execute(
        taken.where(SyncItem.sync_id == sync.id)
    ).one()
    tokens, cost = tokens_and_cost(session, Use.sync_id == sync.id)
    stages = {stage: round(value, 3) for stage, value in zip(_STAGES, spent, strict=True) if value}
    return SyncOut(
        id=sync.id,
        source_id=sync.source_id,
        cause=sync.cause,
        state=sync.state.value,
        stage=sync.stage,
        held_reason=sync.held_reason,
        error=sync.error,
        seen=sync.seen,
        expected=sync.expected,
        unchanged=sync.unchanged,
        added=sync.added,
        changed=sync.changed,
        moved=sync.moved,
        removed=sync.removed,
        skipped=sync.skipped,
        failed=sync.failed,
        bytes=sync.bytes,
        skip_reasons=sync.skip_reasons,
        indexing=indexing,
        words=words,
        passages=passages,
        embedded=embedded,
        tokens_used=tokens,
        cost=round(cost, 6),
        seconds={**sync.seconds, **stages},
        created_at=sync.created_at,
        started_at=sync.started_at,
        finished_at=sync.finished_at,
    )


_RECENT = 20


#: The stages of a document, by its revision's times.
_STAGES = ("read", "split", "describe", "words", "embed")
