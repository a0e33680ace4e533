"""Stored transcripts: the parts of a recording that were transcribed, and the whole."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import delete, exists, select
from sqlalchemy.orm import Session

from fontanel.core.reading.spoken.cues import Cue
from fontanel.core.reading.spoken.stitching import Part, stitch
from fontanel.engine.documents import states
from fontanel.facts import DocumentState
from fontanel.records.tables import Document, Kb, Revision, TranscriptPart

NO_TRANSCRIBER = (
    "It has no subtitles. Choose a transcriber in the settings of the knowledge base, or add its"
    " text as a document."
)


def parts_of(
    session: Session, team_id: str, sha256: str, transcriber: str, spoken: str
) -> Sequence[TranscriptPart]:
    """Return the transcribed parts of a recording, in order."""
    return session.scalars(
        select(TranscriptPart)
        .where(
            TranscriptPart.team_id == team_id,
            TranscriptPart.sha256 == sha256,
            TranscriptPart.transcriber == transcriber,
            TranscriptPart.spoken == spoken,
        )
        .order_by(TranscriptPart.start)
    ).all()


def find_transcript(session: Session, kb: Kb, sha256: str) -> list[Cue] | None:
    """Return the transcript of a recording; None if there is none yet.

    That of the knowledge base's transcriber is preferred to one that another made.
    """
    complete = session.scalars(
        select(TranscriptPart)
        .where(
            TranscriptPart.team_id == kb.team_id,
            TranscriptPart.sha256 == sha256,
            TranscriptPart.last.is_(True),
        )
        .order_by(TranscriptPart.at.desc())
    ).all()
    if not complete:
        return None
    preferred = min(
        complete,
        key=lambda part: (part.transcriber != kb.transcriber, part.spoken != (kb.spoken or "")),
    )
    parts = parts_of(session, kb.team_id, sha256, preferred.transcriber, preferred.spoken)
    return stitch([Part(part.start, part.end, [Cue(*cue) for cue in part.cues]) for part in parts])


def transcriber_changed(session: Session, kb: Kb) -> None:
    """Have the recordings of a knowledge base wait for its transcriber, or for one to be chosen."""
    waiting = select(Document).where(
        Document.kb_id == kb.id,
        Document.state.in_((DocumentState.NEEDS_TRANSCRIPT, DocumentState.TRANSCRIBING)),
    )
    for document in session.scalars(waiting):
        await_transcript(document, kb)


def await_transcript(document: Document, kb: Kb) -> None:
    """Have a recording wait for its transcript."""
    if kb.transcriber is None:
        states.needs_transcript(document, NO_TRANSCRIBER)
    else:
        states.transcribing(document, 0.0)


def delete_unused_transcripts(session: Session) -> int:
    """Delete transcripts of recordings that no revision of their team has; return how many."""
    used = exists().where(
        Revision.sha256 == TranscriptPart.sha256, Revision.team_id == TranscriptPart.team_id
    )
    unused = session.scalars(select(TranscriptPart.key).where(~used)).all()
    session.execute(delete(TranscriptPart).where(TranscriptPart.key.in_(unused)))
    return len(unused)
