"""The pictures of documents: which are described, which wait, and what that would cost."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from sqlalchemy import ColumnElement, Select, and_, delete, exists, func, or_, select
from sqlalchemy.orm import Session

from fontanel.core.describing.pictures import ANSWERED_TOKENS, picture_tokens
from fontanel.core.reading.model import Picture
from fontanel.core.reading.pictures import PictureText
from fontanel.records.tables import (
    Document,
    Kb,
    PictureDescription,
    Revision,
    RevisionPicture,
    TextModel,
)

_DESCRIBED = PictureDescription.description != ""
_FAILED = and_(PictureDescription.error.is_not(None), PictureDescription.again_at.is_(None))


def record_pictures(
    session: Session,
    revision: Revision,
    kb: Kb,
    pictures: Sequence[Picture],
    described: Collection[str] = (),
) -> None:
    """Record the pictures of a revision, and whether its text has all their descriptions.

    Args:
        described: The hashes of those whose descriptions are in its text.
    """
    if not pictures and not revision.pictures:
        # Most documents have none: nothing is stored of them, and nothing was before.
        revision.pictures, revision.viewed_by = 0, kb.viewer
        return
    session.execute(delete(RevisionPicture).where(RevisionPicture.revision_id == revision.id))
    revision.pictures = len(pictures)
    session.add_all(
        RevisionPicture(
            revision_id=revision.id,
            number=number,
            team_id=revision.team_id,
            kb_id=kb.id,
            sha256=picture.sha256,
            width=picture.width,
            height=picture.height,
        )
        for number, picture in enumerate(pictures)
    )
    session.flush()
    waiting = waiting_pictures(session, kb, revision.id)
    missing = texts_of(session, kb, revision.document_key).keys() - set(described)
    here = {picture.sha256 for picture in pictures[: kb.max_pictures]}
    revision.viewed_by = None if waiting or missing & here else kb.viewer


def waiting_pictures(session: Session, kb: Kb, revision_id: str) -> Sequence[RevisionPicture]:
    """Return the pictures of a revision that the knowledge base's model has yet to describe."""
    if kb.viewer is None:
        return []
    return session.scalars(
        select(RevisionPicture)
        .where(
            RevisionPicture.revision_id == revision_id,
            RevisionPicture.number < kb.max_pictures,
            ~_is_settled(kb.team_id, kb.viewer),
        )
        .order_by(RevisionPicture.number)
    ).all()


def _is_settled(team_id: str, model: str) -> ColumnElement[bool]:
    """Return whether a model has described a revision's picture, or will not."""
    return exists().where(
        PictureDescription.team_id == team_id,
        PictureDescription.sha256 == RevisionPicture.sha256,
        PictureDescription.model == model,
        or_(_DESCRIBED, _FAILED),
    )


def texts_of(session: Session, kb: Kb, document_key: int) -> dict[str, PictureText]:
    """Return what the knowledge base's model said about the pictures of a document."""
    if kb.viewer is None:
        return {}
    rows = session.scalars(
        select(PictureDescription).where(
            PictureDescription.team_id == kb.team_id,
            PictureDescription.model == kb.viewer,
            _DESCRIBED,
            PictureDescription.sha256.in_(
                select(RevisionPicture.sha256)
                .join(Revision, Revision.id == RevisionPicture.revision_id)
                .where(
                    Revision.document_key == document_key,
                    RevisionPicture.number < kb.max_pictures,
                )
            ),
        )
    )
    return {row.sha256: PictureText(row.model, row.description, row.text) for row in rows}


def _current(kb: Kb) -> Select[RevisionPicture]:
    """Return the pictures of a knowledge base's documents that a model may describe."""
    return (
        select(RevisionPicture)
        .join(Document, Document.latest_revision_id == RevisionPicture.revision_id)
        .where(RevisionPicture.kb_id == kb.id, RevisionPicture.number < kb.max_pictures)
    )


@dataclass(frozen=True, slots=True)
class PictureEstimate:
    """What describing the pictures of a knowledge base would take.

    Attributes:
        pictures: Those that are not described yet, each once.
        documents: Documents that have any.
    """

    pictures: int
    documents: int
    tokens: int
    cost: float


def estimate_pictures(session: Session, kb: Kb, model: TextModel) -> PictureEstimate:
    """Return what it would take to have a model describe a knowledge base's pictures."""
    rows = session.scalars(_current(kb).where(~_is_settled(kb.team_id, model.name))).all()
    sizes = {row.sha256: (row.width, row.height) for row in rows}
    read = sum(picture_tokens(*size) for size in sizes.values())
    written = ANSWERED_TOKENS * len(sizes)
    return PictureEstimate(
        len(sizes),
        len({row.revision_id for row in rows}),
        read + written,
        (read * model.price_read + written * model.price_written) / 1_000_000,
    )


@dataclass(frozen=True, slots=True)
class PictureCounts:
    """How far a model is with a knowledge base's pictures, each counted once."""

    described: int
    waiting: int
    failed: int
    error: str | None


def count_pictures(session: Session, kb: Kb) -> PictureCounts:
    """Count the pictures of a knowledge base that has a model for them."""
    shas = _current(kb).with_only_columns(RevisionPicture.sha256).distinct().subquery()
    rows = select(
        func.count(),
        func.count().filter(_DESCRIBED),
        func.count().filter(_FAILED),
        func.max(PictureDescription.error),
    ).select_from(
        shas.outerjoin(
            PictureDescription,
            (PictureDescription.sha256 == shas.c.sha256)
            & (PictureDescription.team_id == kb.team_id)
            & (PictureDescription.model == kb.viewer),
        )
    )
    total, described, failed, error = session.execute(rows).one()
    return PictureCounts(described, total - described - failed, failed, error)


def find_blob(session: Session, revision: Revision, sha256: str) -> str | None:
    """Return the stored JPEG of a revision's picture; None if there is none."""
    shown = exists().where(
        RevisionPicture.revision_id == revision.id, RevisionPicture.sha256 == sha256
    )
    return session.scalar(
        select(PictureDescription.blob).where(
            PictureDescription.team_id == revision.team_id,
            PictureDescription.sha256 == sha256,
            PictureDescription.blob.is_not(None),
            shown,
        )
    )


def delete_unused_pictures(session: Session) -> None:
    """Delete descriptions of pictures that no revision of their team has."""
    used = exists().where(
        RevisionPicture.sha256 == PictureDescription.sha256,
        RevisionPicture.team_id == PictureDescription.team_id,
    )
    unused = session.scalars(select(PictureDescription.key).where(~used)).all()
    session.execute(delete(PictureDescription).where(PictureDescription.key.in_(unused)))
