"""Knowledge bases as the API returns them."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.answering.models import usable_model
from fontanel.engine.curation.approved import curation_counts
from fontanel.engine.documents.outdated import outdated_documents
from fontanel.engine.embedding.registered import find_embedder
from fontanel.engine.ingest.description_counts import counts_of
from fontanel.engine.pictures.found import count_pictures
from fontanel.errors import ModelUnusable
from fontanel.records.tables import (
    SETTLED_STATES,
    Document,
    DocumentState,
    Edition,
    Kb,
    PassageRow,
    ProposedDocument,
    ProposedDocumentState,
)
from fontanel.schemas import DescribingOut, KbOut, ViewingOut
from fontanel.service.auth.access import Access
from fontanel.service.out.editions import splitting_out


def kb_out(access: Access, kb: Kb) -> KbOut:
    session = access.session
    by_state = (
        select(Document.state, func.count()).where(Document.kb_id == kb.id).group_by(Document.state)
    )
    counts: dict[str, int] = dict(session.execute(by_state).all())
    passages = session.scalar(
        select(func.count()).select_from(PassageRow).where(PassageRow.edition_id == kb.edition_id)
    )
    changed: datetime | None = session.scalar(
        select(func.max(Document.changed_at)).where(Document.kb_id == kb.id)
    )
    edition = session.get(Edition, kb.edition_id)
    approved, flagged = curation_counts(session, kb.id)
    return KbOut(
        id=kb.id,
        slug=kb.slug,
        name=kb.name,
        description=kb.description,
        documents=sum(counts.values()) - counts.get(DocumentState.REMOVED, 0),
        passages=passages or 0,
        pending=sum(count for state, count in counts.items() if state not in SETTLED_STATES),
        failed=counts.get(DocumentState.FAILED, 0),
        untranscribed=counts.get(DocumentState.NEEDS_TRANSCRIPT, 0),
        outdated_documents=len(outdated_documents(session, kb.id)),
        outdated=kb.outdated,
        proposes_questions=kb.proposes_questions,
        accepts_proposed_documents=kb.accepts_proposed_documents,
        proposed_documents=open_proposals(session, kb.id),
        proposer=kb.proposer,
        transcriber=kb.transcriber,
        spoken=kb.spoken,
        trial_set=kb.trial_set,
        max_losses=kb.max_losses,
        approved=approved,
        flagged=flagged,
        embedder=edition.embedder if edition else None,
        embedder_error=_embedder_error(access, edition),
        splitting=splitting_out(edition.settings if edition else {}),
        max_pictures=kb.max_pictures,
        viewing=_viewing(access, kb),
        describing=_describing(access, kb),
        created_at=kb.created_at,
        changed_at=changed,
        expires_at=kb.expires_at,
        version=kb.version,
    )


def open_proposals(session: Session, kb_id: str) -> int:
    """Return how many proposed documents wait for a decision."""
    query = select(func.count()).where(
        ProposedDocument.kb_id == kb_id, ProposedDocument.state == ProposedDocumentState.OPEN
    )
    return session.scalar(query) or 0


def _embedder_error(access: Access, edition: Edition | None) -> str | None:
    name = None if edition is None else edition.embedder
    if name is None or name == access.runtime.local_models.name:
        return None
    row = find_embedder(access.session, name)
    if row is None:
        return None
    return row.error if row.enabled else "it is switched off"


def _viewing(access: Access, kb: Kb) -> ViewingOut | None:
    if kb.viewer is None:
        return None
    counts = count_pictures(access.session, kb)
    error = counts.error
    try:
        usable_model(access.session, kb.viewer, kb.team_id)
    except ModelUnusable as unusable:
        error = str(unusable)
    return ViewingOut(
        model=kb.viewer,
        described=counts.described,
        waiting=counts.waiting,
        failed=counts.failed,
        error=error,
    )


def _describing(access: Access, kb: Kb) -> DescribingOut | None:
    if kb.describer is None:
        return None
    described, waiting, failed, error = counts_of(access.session, kb)
    try:
        usable_model(access.session, kb.describer, kb.team_id)
    except ModelUnusable as unusable:
        error = str(unusable)
    return DescribingOut(
        model=kb.describer,
        described=described,
        waiting=waiting,
        failed=failed,
        error=error,
    )
