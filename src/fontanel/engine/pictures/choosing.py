"""What becomes of documents when a knowledge base's model for pictures is chosen or removed."""

from __future__ import annotations

from sqlalchemy import and_, func, or_, select, update
from sqlalchemy.orm import Session

from fontanel.core.reading.pictures import ONLY_PICTURES
from fontanel.engine.documents import states
from fontanel.engine.documents.documents import retry_document
from fontanel.engine.documents.states import NEEDS_DESCRIPTION
from fontanel.facts import DocumentState
from fontanel.records.tables import Document, Kb, Revision


def viewer_changed(session: Session, kb: Kb) -> None:
    """Queue the documents that have to be read again, now that pictures are treated otherwise.

    With a model, those without text, and those that were read before pictures were searched for;
    without one, those that have descriptions.
    """
    here = (
        select(Document)
        .join(Revision, Revision.id == Document.latest_revision_id)
        .where(Document.kb_id == kb.id)
    )
    if kb.viewer is None:
        described = and_(Revision.viewed_by.is_not(None), Revision.pictures > 0)
        waiting = here.where(
            or_(
                Document.state == DocumentState.DESCRIBING,
                Document.error_code == NEEDS_DESCRIPTION,
            )
        )
        for document in session.scalars(waiting):
            states.fail_waiting(document, "no_text", ONLY_PICTURES)
        again = here.where(Document.state == DocumentState.INDEXED, described)
    else:
        alone = and_(Document.state == DocumentState.FAILED, Revision.pictures > 0)
        unsearched = and_(
            Document.state == DocumentState.INDEXED,
            Revision.pictures.is_(None),
            func.coalesce(func.json_extract(Revision.report, "$.figures"), 0) > 0,
        )
        again = here.where(or_(alone, unsearched))
    for document in session.scalars(again).all():
        retry_document(session, document)


def max_pictures_changed(session: Session, kb: Kb, limit: int) -> None:
    """Have the documents looked at again of which more or fewer pictures are described now."""
    if kb.viewer is None or limit == kb.max_pictures:
        return
    latest = select(Document.latest_revision_id).where(Document.kb_id == kb.id)
    session.execute(
        update(Revision)
        .where(Revision.id.in_(latest), Revision.pictures > min(limit, kb.max_pictures))
        .values(viewed_by=None)
    )
