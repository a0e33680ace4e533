"""Editions beside the one that serves: built from other settings, compared, switched to, dropped. Where the service holds
another embedder or analyser than the serving edition was made with, one is built that takes over by itself."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from datetime import datetime

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from fontanel.core.text.analysis import ANALYSER_VERSION
from fontanel.engine.documents import states
from fontanel.engine.documents.states import NOT_INDEXED
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

_OPEN = (JobState.WAITING, JobState.RUNNING)


@dataclass(frozen=True, slots=True)
class BuildProgress:
    """How far an edition is: documents done and failed of those queued for it, and the seconds that are left at the pace so
    far (None before the first is done)."""

    done: int
    failed: int
    total: int
    seconds_left: float | None

    @property
    def building(self) -> bool:
        return self.done + self.failed < self.total


def build_edition(session: Session, kb: Kb, split: SplitSettings, embedder: str | None) -> Edition:
    """A new edition beside the serving one, with every document queued for it. Raises Refused."""
    editions = session.scalars(select(Edition).where(Edition.kb_id == kb.id)).all()
    settings = {**asdict(split), "analyser": ANALYSER_VERSION}
    if len(editions) >= MAX_EDITIONS:
        raise Refused(
            "splitting", f"The knowledge base has {len(editions)} editions. Drop one of them first."
        )
    for other in editions:
        if other.settings == settings and other.embedder == embedder:
            raise Refused("splitting", f"Edition {other.number} has these very settings.")
    number = 1 + max(edition.number for edition in editions)
    return _queued(
        session,
        kb,
        Edition(
            id=new_id("ed"),
            team_id=kb.team_id,
            kb_id=kb.id,
            number=number,
            embedder=embedder,
            settings=settings,
        ),
    )


def _queued(session: Session, kb: Kb, edition: Edition) -> Edition:
    """A new edition with every document queued for it."""
    session.add(edition)
    session.flush()
    requested = select(Document).where(Document.kb_id == kb.id, Document.state.not_in(NOT_INDEXED))
    for document in session.scalars(requested).all():
        add_standby_job(session, document, document.latest_revision_id, edition.id)
    return edition


def is_outdated(edition: Edition, embedder: str | None) -> bool:
    """Whether an edition was made with another embedder, or another analyser, than the service holds; one that holds none can
    still search by words."""
    other = embedder is not None and edition.embedder != embedder
    return other or edition.settings.get("analyser", ANALYSER_VERSION) != ANALYSER_VERSION


def renew_outdated(session: Session, embedder: str | None) -> list[Edition]:
    """At start: for each kb whose serving edition is outdated, an edition beside it with the same splitting that takes over once
    it is built. What waits for an embedder that is gone is done: it is found by words. Returns the new editions."""
    made: list[Edition] = []
    for edition in session.scalars(select(Edition).order_by(Edition.number)).all():
        if not is_outdated(edition, embedder):
            continue
        kb = session.get_one(Kb, edition.kb_id)
        serves = kb.edition_id == edition.id
        if embedder is not None and edition.embedder != embedder:
            _end_embedding(session, edition, serves)
        if edition.replaces_active:
            session.execute(delete(Job).where(Job.edition_id == edition.id))
            session.delete(edition)
        elif serves:
            editions = session.scalars(select(Edition).where(Edition.kb_id == kb.id)).all()
            if not any(
                other.replaces_active and not is_outdated(other, embedder) for other in editions
            ):
                settings = {**edition.settings, "analyser": ANALYSER_VERSION}
                number = 1 + max(other.number for other in editions)
                made.append(
                    _queued(
                        session,
                        kb,
                        Edition(
                            id=new_id("ed"),
                            team_id=kb.team_id,
                            kb_id=kb.id,
                            number=number,
                            embedder=embedder or edition.embedder,
                            settings=settings,
                            replaces_active=True,
                        ),
                    )
                )
    return made


def _end_embedding(session: Session, edition: Edition, serves: bool) -> None:
    its_own = Job.for_active if serves else Job.edition_id == edition.id
    waiting = select(Job).where(
        its_own, Job.kb_id == edition.kb_id, Job.stage == JobStage.EMBED, Job.state.in_(_OPEN)
    )
    for job in session.scalars(waiting).all():
        job.state, job.error, job.changed_at = JobState.DONE, "the embedder was replaced", now()
        document = session.get(Document, job.document_key)
        if serves and document is not None and document.state == DocumentState.KEYWORD_READY:
            states.indexed(document)


def promote_successors(session: Session) -> list[tuple[str, str, str]]:
    """Switch to the editions that are built and take over, within the caller's transaction, and drop those they replace: kb, the
    edition that serves now, the one that is gone. One whose kb has documents on their way waits for a quiet moment."""
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
    """How far an edition that does not serve is."""
    counts: dict[JobState, int] = {
        state: count
        for state, count in session.execute(
            select(Job.state, func.count()).where(Job.edition_id == edition.id).group_by(Job.state)
        )
    }
    done, total = counts.get(JobState.DONE, 0), sum(counts.values())
    failed = counts.get(JobState.FAILED, 0)
    began: datetime = edition.created_at
    left = None
    if done and done + failed < total:
        left = (now() - began).total_seconds() / done * (total - done - failed)
    return BuildProgress(done, failed, total, left)


def activate_edition(session: Session, kb: Kb, edition: Edition) -> None:
    """Make an edition the one that searches and answers use, in the caller's transaction. Raises Refused while documents are
    on their way: a switch must not lose one between two editions."""
    if edition.id == kb.edition_id:
        return
    open_jobs = (
        select(func.count()).select_from(Job).where(Job.kb_id == kb.id, Job.state.in_(_OPEN))
    )
    pending = session.scalar(open_jobs) or 0
    if pending:
        raise Conflict(f"{pending} documents are still on their way. Switch once they are indexed.")
    # Jobs tell by the edition whether they move a document; those of before are history.
    session.execute(update(Job).where(Job.edition_id == edition.id).values(edition_id=None))
    stored = select(PassageRow.revision_id).where(
        PassageRow.edition_id == edition.id, PassageRow.document_key == Document.key
    )
    session.execute(
        update(Document)
        .where(Document.kb_id == kb.id, stored.exists())
        .values(
            revision_id=stored.limit(1).scalar_subquery(),
            changed_at=now(),
            change=next_change(session),
        )
        .execution_options(synchronize_session=False)
    )
    # What a revision counts is of the edition that serves.
    inside = (PassageRow.edition_id == edition.id, PassageRow.revision_id == Revision.id)
    session.execute(
        update(Revision)
        .where(Revision.id.in_(select(Document.revision_id).where(Document.kb_id == kb.id)))
        .values(
            passages=select(func.count()).where(*inside).scalar_subquery(),
            tokens=select(func.coalesce(func.sum(PassageRow.tokens), 0))
            .where(*inside)
            .scalar_subquery(),
        )
        .execution_options(synchronize_session=False)
    )
    kb.edition_id = edition.id
    kb.version += 1
    edition.replaces_active = False


def drop_edition(session: Session, kb: Kb, edition: Edition) -> None:
    """Remove an edition that does not serve, with its passages and jobs. Raises Refused."""
    if edition.id == kb.edition_id:
        raise Conflict(
            f"Edition {edition.number} serves. Switch to another one before dropping it."
        )
    session.execute(delete(Job).where(Job.edition_id == edition.id))
    session.delete(edition)
