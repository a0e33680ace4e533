"""Passages in the records and in the segments of an edition.

Added, removed, embedded.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, fields
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy import ColumnElement, delete, func, insert, select
from sqlalchemy.orm import Session

from fontanel.core.embedding.encoder import text_key
from fontanel.core.index import VectorSegment
from fontanel.core.passages.estimating import COMPARED, RUN, estimate_texts
from fontanel.core.passages.fields import window_texts
from fontanel.core.passages.splitting import Locator, Passage, PassagePart
from fontanel.engine.editions.store import Editions
from fontanel.facts import SplitSettings
from fontanel.records.tables import Document, Edition, PassageRow, Revision, Tombstone
from fontanel.records.unit_of_work import Records
from fontanel.records.vector_cache import VectorCache


def embedded_passages(
    session: Session, edition: Edition, revision_id: str
) -> list[tuple[int, list[str]]]:
    """Return a revision's passages in an edition with the texts to embed of each.

    The whole passage first, then its windows.
    """
    query = select(PassageRow.id, PassageRow.embedded_text, PassageRow.text).where(
        PassageRow.revision_id == revision_id, PassageRow.edition_id == edition.id
    )
    rows = session.execute(query.order_by(PassageRow.ordinal))
    windows = split_settings(edition.settings).windows
    return [
        (passage, [embedded, *(window_texts(text) if windows else ())])
        for passage, embedded, text in rows
    ]


def estimated_texts(session: Session, edition: Edition) -> tuple[int, int, int]:
    """Return how many passages an edition has, and about how many texts and tokens to embed."""
    own = PassageRow.edition_id == edition.id
    count = session.scalar(select(func.count()).where(own)) or 0
    query = select(PassageRow.embedded_text, PassageRow.text).where(own).order_by(PassageRow.id)
    if count > COMPARED:
        query = query.where(PassageRow.id // RUN % math.ceil(count / COMPARED) == 0)
    rows = session.execute(query.execution_options(yield_per=1_000))
    windows = split_settings(edition.settings).windows
    texts, tokens = estimate_texts(((whole, text) for whole, text in rows), count, windows=windows)
    return count, texts, tokens


def passage_row(
    edition: Edition,
    document: Document,
    revision: Revision,
    number: int,
    passage: Passage,
    embedded: str,
) -> dict[str, Any]:
    """Return a passage as a row of the records.

    Args:
        number: Its index in the document, from 0.
        embedded: The key of the text that its vector is of.
    """
    return {
        "team_id": edition.team_id,
        "edition_id": edition.id,
        "document_key": document.key,
        "revision_id": revision.id,
        "ordinal": number,
        "start": passage.start,
        "end": passage.end,
        "text": passage.text,
        "context": passage.context,
        "tokens": passage.tokens,
        "locator": passage.locator.to_dict(),
        "parts": [asdict(part) for part in passage.parts],
        "embedded_text": embedded,
    }


def insert_passages(session: Session, rows: Sequence[dict[str, Any]]) -> Sequence[int]:
    """Put passages into the records; return their ids in the same order."""
    added = insert(PassageRow).returning(PassageRow.id, sort_by_parameter_order=True)
    return session.scalars(added, rows).all() if rows else []


def write_vectors(
    editions: Editions,
    vectors: VectorCache,
    session: Session,
    edition: Edition,
    passages: Sequence[tuple[int, list[bytes]]],
) -> None:
    """Write the vectors of passages and of their windows."""
    stored = vectors.get(edition.team_id, [key for _, keys in passages for key in keys])
    whole = [(passage, keys[0]) for passage, keys in passages]
    windows = [(passage, key) for passage, keys in passages for key in keys[1:]]
    for pairs, of_windows in ((whole, False), (windows, True)):
        if pairs:
            ids = np.array([passage for passage, _ in pairs], dtype=np.int64)
            segment = vector_segment(edition, ids, np.stack([stored[key] for _, key in pairs]))
            editions.write(session, edition, segment, windows=of_windows)


def vector_keys(records: Records) -> Iterator[tuple[str, bytes]]:
    """Yield (team, vector cache key) of every embedded text of all editions."""
    with records.reading() as session:
        for edition in session.scalars(select(Edition).where(Edition.embedder.is_not(None))).all():
            assert edition.embedder is not None
            for text in embedded_texts(session, edition):
                yield edition.team_id, text_key(edition.embedder, text)


def embedded_texts(
    session: Session, edition: Edition, *where: ColumnElement[bool]
) -> Iterator[str]:
    """Yield what is embedded of an edition's passages, or of some: their texts and windows."""
    windows = split_settings(edition.settings).windows
    columns = select(PassageRow.embedded_text, PassageRow.text)
    for whole, text in session.execute(columns.where(PassageRow.edition_id == edition.id, *where)):
        yield whole
        yield from window_texts(text) if windows else ()


def retire_passages(session: Session, edition_id: str, document: Document) -> None:
    """Take a document's passages out of an edition, within the caller's transaction."""
    ids = session.scalars(
        select(PassageRow.id).where(
            PassageRow.document_key == document.key, PassageRow.edition_id == edition_id
        )
    ).all()
    session.add_all(
        Tombstone(edition_id=edition_id, passage_id=passage, team_id=document.team_id)
        for passage in ids
    )
    session.execute(
        delete(PassageRow).where(
            PassageRow.document_key == document.key, PassageRow.edition_id == edition_id
        )
    )


def split_settings(stored: Mapping[str, Any]) -> SplitSettings:
    """Return an edition's splitting from its stored settings.

    Editions made before a setting existed have its default, but no windows.
    """
    names = [field.name for field in fields(SplitSettings)]
    values = {name: stored[name] for name in names if name in stored}
    return SplitSettings(**{"windows": False, **values})


def vector_segment(
    edition: Edition, passages: npt.NDArray[np.int64], vectors: npt.NDArray[np.float32]
) -> VectorSegment:
    """A segment of vectors as an edition keeps them: as they are, or as bytes."""
    compact = split_settings(edition.settings).compact
    return VectorSegment.packed(passages, vectors) if compact else VectorSegment(passages, vectors)


def passage_of(data: dict[str, Any]) -> Passage:
    """Return a passage from its row, or from a worker's message."""
    return Passage(
        data["start"],
        data["end"],
        data["text"],
        Locator.from_dict(data["locator"]),
        data["tokens"],
        data["context"],
        tuple(PassagePart(**part) for part in data["parts"]),
    )
