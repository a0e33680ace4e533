"""The states of a document, and every transition between them.

A job moves its document only while it is for the active edition, and the document's latest
revision is the job's. A removed document stays removed until it is queued again.
"""

from __future__ import annotations

from fontanel.facts import DocumentState
from fontanel.records.tables import Document, Job

#: States in which an edition that is built has nothing of a document.
NOT_INDEXED = (
    DocumentState.FAILED,
    DocumentState.NEEDS_TRANSCRIPT,
    DocumentState.TRANSCRIBING,
    DocumentState.DESCRIBING,
    DocumentState.REMOVED,
)

#: The error code of a document without text whose pictures cannot be described now.
NEEDS_DESCRIPTION = "needs_description"

_S = DocumentState
#: Where a document can go from each state.
TRANSITIONS: dict[DocumentState, frozenset[DocumentState]] = {
    _S.WAITING: frozenset(_S),
    _S.READING: frozenset(_S),
    _S.SPLITTING: frozenset(_S),
    _S.NEEDS_TRANSCRIPT: frozenset(_S) - {_S.SPLITTING},
    _S.TRANSCRIBING: frozenset(_S) - {_S.SPLITTING},
    _S.DESCRIBING: frozenset(_S) - {_S.SPLITTING},
    _S.KEYWORD_READY: frozenset(_S),
    # One that is indexed or failed is queued, or read again by a job that was queued before.
    _S.INDEXED: frozenset({_S.INDEXED, _S.WAITING, _S.READING, _S.KEYWORD_READY, _S.REMOVED}),
    _S.FAILED: frozenset(_S) - {_S.SPLITTING},
    _S.REMOVED: frozenset({_S.WAITING, _S.REMOVED}),
}


def queue(document: Document) -> None:
    """A revision is queued for reading."""
    _enter(document, _S.WAITING)
    _clear_error(document)


def begin_reading(document: Document, job: Job) -> None:
    """A job begins to read the document."""
    if moves(job, document):
        _enter(document, _S.READING)


def wait_again(document: Document, job: Job) -> None:
    """A job that was reading waits again, after an interruption."""
    if job.for_active and document.state != _S.REMOVED:
        _enter(document, _S.WAITING)


def report_progress(
    document: Document, job: Job, state: DocumentState, share: float | None
) -> None:
    """Record a job's progress, a share, or None if it is not known."""
    if moves(job, document):
        _enter(document, state, share)


def keyword_ready(document: Document) -> None:
    """Keyword search finds the document; its vectors are being computed."""
    _enter(document, _S.KEYWORD_READY, 0.0)
    _clear_error(document)


def indexed(document: Document) -> None:
    """Everything is done."""
    _enter(document, _S.INDEXED)
    _clear_error(document)


def needs_transcript(document: Document, why: str) -> None:
    """A recording waits for somebody to set up a transcriber."""
    _enter(document, _S.NEEDS_TRANSCRIPT)
    document.error_code, document.error = "needs_transcript", why


def transcribing(document: Document, share: float) -> None:
    """A recording is being transcribed, of which a share is done."""
    _enter(document, _S.TRANSCRIBING, share)
    _clear_error(document)


def describing(document: Document, share: float) -> None:
    """The pictures of a document without text are being described; a share is done."""
    _enter(document, _S.DESCRIBING, share)
    _clear_error(document)


def fail_waiting(document: Document, code: str, message: str) -> None:
    """What a document waits for will not come: a transcript, or a description."""
    _enter(document, _S.FAILED)
    document.error_code, document.error = code, message


def fail(document: Document, job: Job, code: str, message: str) -> None:
    """A job failed for good; the document's last good revision stays in the index."""
    if moves(job, document):
        _enter(document, _S.FAILED)
        document.error_code, document.error = code, message


def remove(document: Document) -> None:
    """The document left its source."""
    _enter(document, _S.REMOVED)
    _clear_error(document)
    document.revision_id = None


def moves(job: Job, document: Document) -> bool:
    """Return whether a job moves the state of a document."""
    return (
        job.for_active
        and document.latest_revision_id == job.revision_id
        and document.state != _S.REMOVED
    )


def _enter(document: Document, state: DocumentState, progress: float | None = None) -> None:
    # A document that is being created has no state yet.
    before = document.state or _S.WAITING
    if state not in TRANSITIONS[before]:
        raise RuntimeError(f"A document cannot go from {before} to {state}.")
    document.state, document.progress = state, progress


def _clear_error(document: Document) -> None:
    document.error = document.error_code = None
