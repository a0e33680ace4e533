"""The job queue in the database: what to read and embed, and its progress."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import timedelta
from itertools import accumulate, zip_longest
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, func, select, update
from sqlalchemy.orm import InstrumentedAttribute, Session

from fontanel.engine.documents import states
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    Document,
    Edition,
    Embedder,
    Job,
    JobStage,
    JobState,
    Kb,
    Revision,
    now,
)
from fontanel.records.tables.base import Base
from fontanel.records.unit_of_work import Records

#: The number of times a worker may die over a job before it fails, not counting stops of the
#: service.
MAX_ATTEMPTS = 3
#: Rows that are loaded by one statement.
_AT_ONCE = 500

_Row = TypeVar("_Row", bound=Base)


def add_job(session: Session, document: Document, revision_id: str) -> Job:
    """Queue a revision for the active and the standby editions.

    Return the active one's.

    Jobs of older revisions that have not started are deleted.
    """
    drop_waiting_jobs(session, document)
    for edition_id in _standby_editions(session, document.kb_id):
        add_standby_job(session, document, revision_id, edition_id)
    job = _job(document, revision_id, None)
    session.add(job)
    return job


def add_first_jobs(session: Session, kb: Kb, documents: Sequence[Document]) -> None:
    """Queue the only revisions of new documents of a knowledge base."""
    standby = _standby_editions(session, kb.id)
    for document in documents:
        for edition_id in standby:
            add_standby_job(session, document, document.latest_revision_id, edition_id)
        session.add(_job(document, document.latest_revision_id, None))


def _standby_editions(session: Session, kb_id: str) -> Sequence[str]:
    active = select(Kb.edition_id).where(Kb.id == kb_id).scalar_subquery()
    return session.scalars(
        select(Edition.id).where(Edition.kb_id == kb_id, Edition.id != active)
    ).all()


def drop_waiting_jobs(session: Session, document: Document) -> None:
    session.execute(
        update(Job)
        .where(
            Job.document_key == document.key,
            Job.state.in_((JobState.WAITING, JobState.PAUSED)),
        )
        .values(state=JobState.DONE, error="no longer wanted", changed_at=now())
    )


def add_standby_job(
    session: Session, document: Document, revision_id: str, edition_id: str
) -> None:
    """Queue a revision for a standby edition."""
    job = _job(document, revision_id, edition_id)
    if is_paused(session, job):
        job.state = JobState.PAUSED
    session.add(job)


def is_paused(session: Session, job: Job) -> bool:
    """Return whether the build of a job's edition is paused."""
    if job.edition_id is None:
        return False
    edition = session.get(Edition, job.edition_id)
    return edition is not None and edition.paused_by is not None


def put_back(session: Session, job: Job) -> None:
    """Have a job wait again, or stay until its edition's build is resumed."""
    job.state = JobState.PAUSED if is_paused(session, job) else JobState.WAITING


def _job(document: Document, revision_id: str, edition_id: str | None) -> Job:
    return Job(
        id=new_id("job"),
        team_id=document.team_id,
        kb_id=document.kb_id,
        document_key=document.key,
        revision_id=revision_id,
        edition_id=edition_id,
        stage=JobStage.READ,
        state=JobState.WAITING,
    )


def waiting_teams(
    session: Session,
    stage: JobStage,
    after: str = "",
    limit: int = 16,
    embedder: str | None = None,
) -> list[str]:
    """Return teams with jobs that are due, in a circle that begins behind the team `after`.

    Args:
        embedder: That of the second stage's jobs.
    """
    results: list[str] = []
    circle = [(after, None), ("", after)] if after else [("", None)]
    for lower, upper in circle:
        while len(results) < limit:
            due = [
                Job.state == JobState.WAITING,
                Job.stage == stage,
                Job.run_after <= now(),
                _of_embedder(embedder),
                Job.team_id > lower,
            ]
            if upper is not None:
                due.append(Job.team_id <= upper)
            team: str | None = session.scalar(select(func.min(Job.team_id)).where(*due))
            if team is None:
                break
            results.append(team)
            lower = team
    return results


def embedders_waited_for(session: Session, but: str | None) -> list[str]:
    """Return the registered embedders that jobs wait for which are due.

    Args:
        but: The service's own, which is left out.
    """
    # An index finds a job of each; the waiting jobs may be many.
    due = select(Job.id).where(
        Job.state == JobState.WAITING,
        Job.stage == JobStage.EMBED,
        Job.embedder == Embedder.name,
        Job.run_after <= now(),
    )
    names = session.scalars(select(Embedder.name).where(due.exists()))
    return [name for name in names if name != but]


def _of_embedder(name: str | None) -> ColumnElement[bool]:
    return Job.embedder.is_(None) if name is None else Job.embedder == name


def claim(
    records: Records,
    stage: JobStage,
    limit: int,
    teams: Sequence[str],
    max_passages: int | None = None,
    embedder: str | None = None,
) -> list[Job]:
    """Claim waiting jobs of a stage, about equally many of each of these teams.

    Jobs of active editions come first, then the oldest. Only one process works on a data directory,
    so no lease is needed.

    Args:
        limit: The maximum number of jobs.
        max_passages: Claim no more once the jobs have this many passages together.
        embedder: That of the second stage's jobs.
    """
    if not teams:
        return []
    with records.writing() as session:
        by_team = [
            session.scalars(
                select(Job)
                .where(
                    Job.state == JobState.WAITING,
                    Job.stage == stage,
                    Job.run_after <= now(),
                    Job.team_id == team,
                    _of_embedder(embedder),
                )
                .order_by(Job.for_active.desc(), Job.created_at, Job.id)
                .limit(limit)
            ).all()
            for team in teams
        ]
        # One of each in turn: nobody's thousand documents delay another team's one.
        jobs = [job for turn in zip_longest(*by_team) for job in turn if job is not None][:limit]
        if max_passages is not None:
            before = [0, *accumulate(job.total - job.done for job in jobs)]
            jobs = [
                job
                for job, sum_before in zip(jobs, before, strict=False)
                if sum_before < max_passages
            ]
        documents = documents_of(session, jobs if stage == JobStage.READ else [])
        for job in jobs:
            job.state = JobState.RUNNING
            job.changed_at = now()
            if stage == JobStage.READ and job.for_active:
                document = documents.get(job.document_key)
                if document is not None:
                    states.begin_reading(document, job)
        return jobs


def retry_later(session: Session, job: Job) -> None:
    """Put a job back, to be tried again after a pause that doubles."""
    put_back(session, job)
    job.run_after = now() + timedelta(seconds=2**job.attempts)
    job.changed_at = now()


def postpone(records: Records, jobs: Sequence[Job], seconds: float) -> None:
    """Put jobs back, to be tried again after some seconds, without counting an attempt."""
    due = now() + timedelta(seconds=seconds)
    with records.writing() as session:
        claimed = select(Job).where(Job.id.in_([job.id for job in jobs]))
        for job in session.scalars(claimed.where(Job.state == JobState.RUNNING)):
            put_back(session, job)
            job.run_after, job.changed_at = due, now()


def recover(records: Records) -> int:
    """Queue jobs again that were running when the service ended, at start.

    Return how many.
    """
    with records.writing() as session:
        running = list(session.scalars(select(Job).where(Job.state == JobState.RUNNING)))
        for job in running:
            put_back(session, job)
            job.run_after = now()
            document = session.get(Document, job.document_key)
            if document is not None and job.stage == JobStage.READ:
                states.wait_again(document, job)
        return len(running)


def waiting(session: Session) -> int:
    """How many jobs wait or run."""
    query = (
        select(func.count())
        .select_from(Job)
        .where(Job.state.in_([JobState.WAITING, JobState.RUNNING]))
    )
    return session.scalar(query) or 0


def documents_of(session: Session, jobs: Sequence[Job]) -> dict[int, Document]:
    """Return the documents of jobs by their keys."""
    keys = {job.document_key for job in jobs}
    return {one.key: one for one in _load(session, Document, Document.key, keys)}


@contextmanager
def loaded(session: Session, jobs: Sequence[Job]) -> Iterator[None]:
    """Load the documents, revisions, knowledge bases and editions of jobs in few statements.

    A session forgets what nobody refers to, and would load each row alone again and again. They
    are kept for the length of the block.
    """
    kbs = _load(session, Kb, Kb.id, {job.kb_id for job in jobs})
    active = {kb.edition_id for kb in kbs}
    kept = [
        *kbs,
        *_load(session, Edition, Edition.id, active | {job.edition_id or "" for job in jobs}),
        *_load(session, Job, Job.id, {job.id for job in jobs}),
        *_load(session, Document, Document.key, {job.document_key for job in jobs}),
        *_load(session, Revision, Revision.id, {job.revision_id for job in jobs}),
    ]
    yield
    kept.clear()


def _load(
    session: Session, table: type[_Row], column: InstrumentedAttribute[Any], values: set[Any]
) -> list[_Row]:
    wanted = sorted(values)
    return [
        row
        for at in range(0, len(wanted), _AT_ONCE)
        for row in session.scalars(select(table).where(column.in_(wanted[at : at + _AT_ONCE])))
    ]


def edition_of_job(session: Session, job: Job) -> Edition | None:
    """Return the edition of a job; None if its knowledge base is gone."""
    kb = session.get(Kb, job.kb_id)
    return session.get(Edition, job.edition_id or kb.edition_id) if kb else None
