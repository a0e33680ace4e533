"""Follow the text that past answers cite, when its documents change.

Answers that cite the same characters are compared and updated together, so that the work depends on
how much text is cited, not on how many answers cite it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from sqlalchemy import ColumnElement, or_, select, update
from sqlalchemy.orm import Session

from fontanel.core.curation.following import Followed, TextChange, follow_quote
from fontanel.engine.documents.readings import reading_text
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import AnswerSource, Document, DocumentState, Kb, now

#: Texts of revisions that are kept while a knowledge base is checked.
_MAX_TEXTS = 8


@dataclass(frozen=True, slots=True)
class SourceChange:
    """What became of characters that answers cite; `revision_id` is None if they are gone."""

    kb_id: str
    document_id: str
    old_revision: str
    span: tuple[int, int]
    revision_id: str | None
    followed: Followed
    new_text: str = ""


def compare_sources(session: Session, blobs: BlobStore, kb: Kb) -> Iterator[SourceChange]:
    """Yield what became of cited text whose documents have a revision it was not compared with."""

    @lru_cache(_MAX_TEXTS)
    def text_of(revision_id: str) -> str | None:
        return reading_text(session, blobs, kb.team_id, revision_id)

    gone = or_(Document.id.is_(None), Document.state == DocumentState.REMOVED)
    other = Document.revision_id.is_not(None) & (Document.revision_id != AnswerSource.checked_id)
    stale = or_(gone & AnswerSource.checked_id.is_not(None), other)
    # From an index alone: a knowledge base may have very many answers.
    documents = (
        select(AnswerSource.document_id)
        .outerjoin(Document, Document.id == AnswerSource.document_id)
        .where(AnswerSource.kb_id == kb.id, stale)
        .distinct()
    )
    changed = session.scalars(documents).all()
    if not changed:
        return
    places = (
        select(
            AnswerSource.document_id,
            AnswerSource.revision_id,
            AnswerSource.start,
            AnswerSource.end,
            AnswerSource.quote,
            Document.revision_id,
            gone,
        )
        .outerjoin(Document, Document.id == AnswerSource.document_id)
        .where(AnswerSource.kb_id == kb.id, AnswerSource.document_id.in_(changed), stale)
        .distinct()
    )
    for document_id, old_revision, start, end, quote, current, is_gone in session.execute(places):
        place = (kb.id, document_id, old_revision, (start, end))
        if is_gone:
            yield SourceChange(*place, None, Followed(TextChange.REMOVED))
            continue
        new = text_of(current)
        if new is None:
            continue
        followed, text = follow_quote(text_of(old_revision), start, end, quote, new)
        yield SourceChange(*place, current, followed, text)


def record_change(session: Session, change: SourceChange) -> None:
    """Store what became of cited text, for all answers that cite it."""
    own: list[ColumnElement[bool]] = [
        AnswerSource.kb_id == change.kb_id,
        AnswerSource.document_id == change.document_id,
        AnswerSource.revision_id == change.old_revision,
        AnswerSource.start == change.span[0],
        AnswerSource.end == change.span[1],
    ]
    followed = change.followed
    values: dict[str, object] = {"checked_id": change.revision_id, "changed_at": now()}
    if followed.change == TextChange.SAME:
        values |= {
            "revision_id": change.revision_id,
            "start": followed.start,
            "end": followed.end,
            "change": "",
            "new_text": "",
        }
    else:
        values |= {"change": followed.change.value, "new_text": change.new_text}
    session.execute(update(AnswerSource).where(*own).values(**values))
