"""ProgressReporter of documents under way, written so seldom that it costs nothing."""

from __future__ import annotations

import time
from collections.abc import Sequence

from fontanel.records.tables import Document, DocumentState, Job
from fontanel.records.unit_of_work import Records

#: Seconds between two notes on the same documents: what is over sooner need not be told.
_PAUSE = 0.4


class ProgressReporter:
    """Notes state and share in the documents' rows and wakes who watches; a note too soon after the last is left out."""

    def __init__(self, records: Records) -> None:
        self._records = records
        self._noted: dict[str, float] = {}

    def start(self, job: Job) -> None:
        """A job begins now; the first note comes when it has taken a while."""
        if len(self._noted) > 10_000:
            self._noted.clear()
        self._noted[job.id] = time.monotonic()

    def show(self, jobs: Sequence[Job], state: DocumentState, share: float | None) -> None:
        moment = time.monotonic()
        due = [
            job
            for job in jobs
            if job.edition_id is None and moment - self._noted.get(job.id, 0.0) > _PAUSE
        ]
        if not due:
            return
        with self._records.writing() as session:
            for job in due:
                self._noted[job.id] = moment
                document = session.get(Document, job.document_key)
                if document is None or document.state == DocumentState.REMOVED:
                    continue
                if document.latest_revision_id == job.revision_id:
                    document.state, document.progress = state, share
