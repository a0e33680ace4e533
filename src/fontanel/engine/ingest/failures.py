"""What becomes of a job that fails."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import structlog

from fontanel.engine.documents import states
from fontanel.engine.ingest.queue import MAX_ATTEMPTS, retry_later
from fontanel.records.tables import Document, Job, JobState, now
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()


def attempt_failed(records: Records, job: Job, message: str) -> None:
    """Retry a job later when a worker ended during it; fail it after a few attempts."""
    with records.writing() as session:
        row = session.get(Job, job.id)
        if row is None:
            return
        row.attempts += 1
        attempts = row.attempts
        if attempts < MAX_ATTEMPTS:
            retry_later(session, row)
    log.warning("job interrupted", job=job.id, attempt=attempts)
    if attempts >= MAX_ATTEMPTS:
        job_failed(records, job, "broke", message)


def job_failed(records: Records, job: Job, code: str, message: str) -> None:
    """Fail a job for good, and its document with it."""
    with records.writing() as session:
        row, document = session.get(Job, job.id), session.get(Document, job.document_key)
        if row is not None:
            row.state, row.error, row.changed_at = JobState.FAILED, message, now()
        if document is not None:
            states.fail(document, job, code, message)


class InterruptedJobs:
    """Claimed jobs whose round ended with an error, to be queued again."""

    def __init__(self, records: Records) -> None:
        self._records = records
        self._lock = threading.Lock()
        self._jobs: list[Job] = []

    @contextmanager
    def queued_again(self, jobs: Sequence[Job]) -> Iterator[None]:
        """Remember these jobs if the block raises an error, such as `Busy`."""
        try:
            yield
        except Exception:
            with self._lock:
                self._jobs.extend(jobs)
            raise

    def queue_again(self, message: str) -> None:
        """Queue the jobs that still count as running; fail those that were tried too often.

        Args:
            message: What their documents report when they fail.
        """
        with self._lock:
            jobs, self._jobs = self._jobs, []
        with self.queued_again(jobs):
            for job in jobs:
                if self._is_running(job):
                    attempt_failed(self._records, job, message)

    def _is_running(self, job: Job) -> bool:
        with self._records.reading() as session:
            row = session.get(Job, job.id)
            return row is not None and row.state == JobState.RUNNING
