"""Standby editions: built with other settings, compared, activated, deleted.

Where the service has another embedder or analyser than the active edition was built with, one is
built that replaces it when done.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from fontanel.core.text.analysis import ANALYSER_VERSION
from fontanel.engine.documents import states
from fontanel.engine.documents.states import NOT_INDEXED
from fontanel.engine.embedding.registered import known_embedders
from fontanel.engine.ingest.queue import add_standby_job
from fontanel.errors import Conflict, Refused
from fontanel.facts import MAX_EDITIONS, SplitSettings
from fontanel.records.ids import new_id
from fontanel.records.sequence import next_change
from fontanel.records.tables import (
    Document,
    DocumentState,
    Edition,
    Job,
    JobStage,
    JobState,
    Kb,
    PassageRow,
    Revision,
    now,
)

_OPEN = (JobState.WAITING, JobState.RUNNING, JobState.PAUSED)


@dataclass(frozen=True, slots=True)
class BuildProgress:
    """Progress of an edition: documents done, failed and queued, and seconds left.

    The estimate is None until the first document is done.
    """

    done: int
    failed: int
    total: int
    seconds_left: float | None

    @property
    def building(self) -> bool:
        return self.done + self.failed < self.total


def build_edition(
    session: Session,
    kb: Kb,
    split: SplitSettings,
    embedder: str | None,
    budget: float | None = None,
) -> Edition:
    """Create a standby edition, with every document queued for it.

    Args:
        budget: The maximum cost of building it, in the embedder's currency.

    Raises:
        Refused: there are too many editions.
    """
    editions = session.scalars(select(Edition).where(Edition.kb_id == kb.id)).all()
    settings = {**asdict(split), "analyser": ANALYSER_VERSION}
    if len(editions) >= MAX_EDITIONS:
        raise Refused(
            "splitting", f"The knowledge base has {len(editions)} editions. Drop one of them first."
        )
    for other in editions:
        if other.settings == settings and other.embedder == embedder:
            raise Refused("splitting", f"Edition {other.number} has these very settings.")
    return _create_edition(session, kb, editions, embedder, settings, budget=budget)


def _create_edition(
    session: Session,
    kb: Kb,
    editions: Sequence[Edition],
    embedder: str | None,
    settings: dict[str, Any],
    *,
    replaces_active: bool = False,
    budget: float | None = None,
) -> Edition:
    """Create the edition that follows `editions`, with every document queued for it."""
    edition = Edition(
        id=new_id("ed"),
        team_id=kb.team_id,
        kb_id=kb.id,
        number=1 + max(edition.number for edition in editions),
        embedder=embedder,
        settings=settings,
        replaces_active=replaces_active,
        budget=budget,
    )
    session.add(edition)
    session.flush()
    requested = select(Document).where(Document.kb_id == kb.id, Document.state.not_in(NOT_INDEXED))
    for document in session.scalars(requested).all():
        add_standby_job(session, document, document.latest_revision_id, edition.id)
    return edition


def is_outdated(
    edition: Edition, embedder: str | None, registered: Collection[str] = frozenset()
) -> bool:
    """Return whether an edition was built with an earlier embedder or analyser.

    Without an embedder in the service, any edition still supports keyword search.

    Args:
        embedder: The service's own.
        registered: The names of the registered embedders, which editions keep.
    """
    other = _has_other(edition, embedder, registered)
    return other or edition.settings.get("analyser", ANALYSER_VERSION) != ANALYSER_VERSION


def _has_other(edition: Edition, embedder: str | None, registered: Collection[str]) -> bool:
    known = edition.embedder == embedder or edition.embedder in registered
    return embedder is not None and not known


def renew_outdated(session: Session, embedder: str | None) -> list[Edition]:
    """Replace outdated active editions, at start; return the new editions.

    Each gets a standby edition with the same splitting, which is activated once it is built. Jobs
    that wait for an embedder that is gone are done: they remain with keyword search.
    """
    made: list[Edition] = []
    registered = known_embedders(session)
    for edition in session.scalars(select(Edition).order_by(Edition.number)).all():
        if not is_outdated(edition, embedder, registered):
            continue
        kb = session.get_one(Kb, edition.kb_id)
        active = kb.edition_id == edition.id
        if _has_other(edition, embedder, registered):
            _end_embedding(session, edition, active=active)
        if edition.replaces_active:
            session.execute(delete(Job).where(Job.edition_id == edition.id))
            session.delete(edition)
        elif active:
            editions = session.scalars(select(Edition).where(Edition.kb_id == kb.id)).all()
            if not any(
                other.replaces_active and not is_outdated(other, embedder, registered)
                for other in editions
            ):
                settings = {**edition.settings, "analyser": ANALYSER_VERSION}
                kept = edition.embedder in registered
                new_embedder = edition.embedder if kept else embedder or edition.embedder
                made.append(
                    _create_edition(
                        session, kb, editions, new_embedder, settings, replaces_active=True
                    )
                )
    return made


def _end_embedding(session: Session, edition: Edition, *, active: bool) -> None:
    its_own = Job.for_active if active else Job.edition_id == edition.id
    waiting = select(Job).where(
        its_own, Job.kb_id == edition.kb_id, Job.stage == JobStage.EMBED, Job.state.in_(_OPEN)
    )
    for job in session.scalars(waiting).all():
        job.state, job.error, job.changed_at = JobState.DONE, "the embedder was replaced", now()
        document = session.get(Document, job.document_key)
        if active and document is not None and document.state == DocumentState.KEYWORD_READY:
            states.indexed(document)


def promote_successors(session: Session) -> list[tuple[str, str, str]]:
    """Activate the replacements that are built, and delete the editions they replace.

    In the caller's transaction. One whose documents are being processed waits.

    Returns:
        The knowledge base, the edition now active, and the deleted one, for each.
    """
    done: list[tuple[str, str, str]] = []
    for edition in session.scalars(select(Edition).where(Edition.replaces_active.is_(True))).all():
        kb = session.get_one(Kb, edition.kb_id)
        before = session.get(Edition, kb.edition_id)
        if progress_of(session, edition).building:
            continue
        try:
            activate_edition(session, kb, edition)
        except Conflict:
            continue
        if before is not None and before.id != edition.id:
            drop_edition(session, kb, before)
            done.append((kb.id, edition.id, before.id))
    return done


def progress_of(session: Session, edition: Edition) -> BuildProgress:
    """Return the progress of a standby edition."""
    counts: dict[JobState, int] = dict(
        session.execute(
            select(Job.state, func.count()).where(Job.edition_id == edition.id).group_by(Job.state)
        ).all()
    )
    done, total = counts.get(JobState.DONE, 0), sum(counts.values())
    failed = counts.get(JobState.FAILED, 0)
    began: datetime = edition.created_at
    left = None
    if done and done + failed < total:
        left = (now() - began).total_seconds() / done * (total - done - failed)
    return BuildProgress(done, failed, total, left)


def activate_edition(session: Session, kb: Kb, edition: Edition) -> None:
    """Make an edition the active one, in the caller's transaction.

    Raises:
        Refused: documents are being processed; switching could lose one between editions.
    """
    if edition.id == kb.edition_id:
        return
    if edition.paused_by is not None:
        raise Conflict(f"The build of edition {edition.number} is paused. Resume it first.")
    # Jobs of other standby editions do not matter.
    involved = Job.for_active | (Job.edition_id == edition.id)
    open_jobs = select(func.count()).where(Job.kb_id == kb.id, involved, Job.state.in_(_OPEN))
    pending = session.scalar(open_jobs) or 0
    if pending:
        raise Conflict(f"{pending} documents are still on their way. Switch once they are indexed.")
    # Whether a job changes a document's state depends on its edition; earlier ones are history.
    session.execute(update(Job).where(Job.edition_id == edition.id).values(edition_id=None))
    # A revision's counts are those of the active edition.
    revisions = session.execute(
        select(
            PassageRow.document_key,
            PassageRow.revision_id,
            func.count(),
            func.sum(PassageRow.tokens),
        )
        .where(PassageRow.edition_id == edition.id)
        .group_by(PassageRow.document_key, PassageRow.revision_id)
    ).all()
    moved = {"changed_at": now(), "change": next_change(session)}
    if revisions:
        session.execute(
            update(Document),
            [{"key": key, "revision_id": revision, **moved} for key, revision, _, _ in revisions],
        )
        session.execute(
            update(Revision),
            [
                {"id": revision, "passages": count, "tokens": tokens}
                for _, revision, count, tokens in revisions
            ],
        )
    kb.edition_id = edition.id
    kb.version += 1
    edition.replaces_active, edition.budget = False, None


def drop_edition(session: Session, kb: Kb, edition: Edition) -> None:
    """Delete a standby edition, with its passages and jobs.

    Raises:
        Refused: it is the active one.
    """
    if edition.id == kb.edition_id:
        raise Conflict(
            f"Edition {edition.number} is active. Switch to another one before deleting it."
        )
    session.execute(delete(Job).where(Job.edition_id == edition.id))
    session.delete(edition)
