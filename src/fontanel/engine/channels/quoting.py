"""Citations as the sources of a reply: with the place, and an address that opens it."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.channels.protocol import Quoted
from fontanel.channels.writing import Mark
from fontanel.core.answering.writing.prompt import place_of
from fontanel.engine.answering.turn_records import StoredCitation
from fontanel.records.tables import Document, Team, Turn


def marks_of(session: Session, turn: Turn, origin: str) -> list[Mark]:
    """Return the citations of an answer, with the positions that they belong to.

    The address is that of the original where its source has one, otherwise the place in the
    console.

    Args:
        origin: The address of the service.
    """
    citations = [StoredCitation.load(one) for one in turn.citations]
    if not citations:
        return []
    team = session.get_one(Team, turn.team_id)
    ids = {one.document_id for one in citations}
    query = select(Document).where(Document.team_id == turn.team_id, Document.id.in_(ids))
    links = {document.id: document.link for document in session.scalars(query)}
    return [
        Mark(
            one.answer_end,
            Quoted(
                number=one.number,
                title=one.title,
                place=place_of(one.locator, one.title),
                quote=one.quote,
                url=links.get(one.document_id)
                or f"{origin}/t/{team.slug}/kbs/{one.kb_id}/documents/{one.document_id}"
                f"?revision={one.revision_id}&from={one.start}&to={one.end}",
            ),
        )
        for one in citations
    ]
