"""Progress of documents being read or embedded, written rarely enough to be cheap."""

from __future__ import annotations

import time
from collections.abc import Sequence

from fontanel.engine.documents import states
from fontanel.engine.ingest.queue import documents_of
from fontanel.facts import DocumentState
from fontanel.records.tables import Job
from fontanel.records.unit_of_work import Records

#: Seconds between two reports on the same job.
_PAUSE = 1.0
#: Jobs whose last report is remembered.
_MAX_REMEMBERED = 10_000


class ProgressReporter:
    """Writes state and progress to the documents' rows, skipping frequent reports."""

    def __init__(self, records: Records) -> None:
        self._records = records
        self._reported: dict[str, float] = {}

    def start(self, job: Job) -> None:
        """Start the clock of a job; its first report comes after a while."""
        if len(self._reported) > _MAX_REMEMBERED:
            self._reported.clear()
        self._reported[job.id] = time.monotonic()

    def report(self, jobs: Sequence[Job], state: DocumentState, share: float | None) -> None:
        """Report how far jobs are."""
        moment = time.monotonic()
        due = [
            job
            for job in jobs
            if job.for_active and moment - self._reported.get(job.id, 0.0) > _PAUSE
        ]
        if not due:
            return
        with self._records.writing() as session:
            documents = documents_of(session, due)
            for job in due:
                self._reported[job.id] = moment
                document = documents.get(job.document_key)
                if document is not None:
                    states.report_progress(document, job, state, share)
