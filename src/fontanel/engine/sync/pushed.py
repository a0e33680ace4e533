"""Documents that programs send to a source, with ids of their own, many at a time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import add_document, remove_document, revise_document
from fontanel.engine.documents.naming import add_tags, check_tags, document_name
from fontanel.engine.sync.source_documents import document_of, upsert_item
from fontanel.errors import Refused
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    Document,
    Kb,
    Outcome,
    Revision,
    Source,
    SourceItem,
    Sync,
    SyncItem,
    SyncState,
    now,
)


@dataclass(frozen=True, slots=True)
class Pushed:
    """A document as it was sent; its bytes are stored already."""

    id: str
    name: str
    sha256: str
    size: int
    link: str = ""
    tags: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class PushOutcome:
    id: str
    outcome: Outcome
    reason: str | None = None
    document: Document | None = None


def take_pushed(
    session: Session, kb: Kb, source: Source, documents: Sequence[Pushed], remove: Sequence[str]
) -> tuple[Sync, list[PushOutcome]]:
    """Store pushed documents and remove others, within the caller's transaction.

    Returns:
        The run that records it.
    """
    sync = Sync(
        id=new_id("sync"),
        team_id=source.team_id,
        kb_id=kb.id,
        source_id=source.id,
        cause="push",
        state=SyncState.DONE,
        skip_reasons={},
        seconds={},
        started_at=now(),
        finished_at=now(),
        seen=len(documents) + len(remove),
        unchanged=0,
        added=0,
        changed=0,
        removed=0,
        failed=0,
        bytes=0,
    )
    session.add(sync)
    session.flush()
    outcomes: dict[str, PushOutcome] = {}
    for pushed in documents:
        with session.begin_nested():
            try:
                outcomes[pushed.id] = _take(session, kb, source, pushed)
            except Refused as refused:
                outcomes[pushed.id] = PushOutcome(pushed.id, Outcome.FAILED, str(refused))
    for item_id in remove:
        outcomes[item_id] = _remove(session, kb, source, item_id)
    for one in outcomes.values():
        setattr(sync, one.outcome.value, getattr(sync, one.outcome.value) + 1)
        if one.outcome == Outcome.UNCHANGED:
            continue
        revision = (
            one.document.latest_revision_id
            if one.document and one.outcome != Outcome.REMOVED
            else None
        )
        session.add(
            SyncItem(
                team_id=sync.team_id,
                sync_id=sync.id,
                item_id=one.id,
                outcome=one.outcome,
                reason=one.reason,
                document_key=one.document.key if one.document else None,
                revision_id=revision,
            )
        )
    sync.bytes = sum(pushed.size for pushed in documents)
    source.last_listed_at = now()
    return sync, list(outcomes.values())


def _item(session: Session, source: Source, item_id: str) -> SourceItem | None:
    return session.scalar(
        select(SourceItem).where(SourceItem.source_id == source.id, SourceItem.item_id == item_id)
    )


def _take(session: Session, kb: Kb, source: Source, pushed: Pushed) -> PushOutcome:
    item = _item(session, source, pushed.id)
    document = document_of(session, item)
    outcome = Outcome.CHANGED
    if document is None:
        name = document_name(f"{source.folder}/{pushed.name}")
        holder = session.scalar(
            select(Document).where(Document.kb_id == kb.id, Document.name == name)
        )
        if holder is not None and holder.source_id != source.id:
            raise Refused(
                "name", f"There is a document named {name!r} already that is not of this source."
            )
        outcome = Outcome.ADDED if holder is None else Outcome.CHANGED
        added = add_document(session, kb, name, pushed.sha256, pushed.size, None)
        document = added.document
    else:
        added = revise_document(session, document, pushed.sha256, pushed.size)
    document.source_id, document.link = source.id, pushed.link
    add_tags(session, document, check_tags(pushed.tags))
    values = {"document_key": document.key, "mark": pushed.sha256, "error": None}
    upsert_item(session, source, pushed.id, values)
    if added.job is None:
        return PushOutcome(pushed.id, Outcome.UNCHANGED, None, document)
    # Until it is sent nobody here can know of a change.
    session.get_one(Revision, document.latest_revision_id).source_changed_at = now()
    return PushOutcome(pushed.id, outcome, None, document)


def _remove(session: Session, kb: Kb, source: Source, item_id: str) -> PushOutcome:
    item = _item(session, source, item_id)
    if item is None:
        return PushOutcome(item_id, Outcome.UNCHANGED, "not there")
    document = document_of(session, item)
    if document is not None:
        remove_document(session, kb, document)
    session.delete(item)
    return PushOutcome(item_id, Outcome.REMOVED, None, document)
