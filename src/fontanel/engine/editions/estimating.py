"""What building an edition takes, before it is built."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.answering.background import EMBEDDED
from fontanel.engine.embedding.registered import find_embedder
from fontanel.engine.ingest.passages import estimated_texts
from fontanel.records.tables import Document, Edition, Embedder, Revision, Use, now

#: Uses of this many days show the pace of an embedder.
_DAYS = 30
#: The stages of a document before it is embedded: several are read at a time, and one is indexed.
_READING, _INDEXING = ("read", "split", "describe"), "words"


@dataclass(frozen=True, slots=True)
class BuildEstimate:
    """Passages, texts and tokens to embed, the cost, and the time; None if no pace is known."""

    passages: int
    texts: int
    tokens: int
    seconds: float | None
    cost: float


def estimate_build(
    session: Session, edition: Edition, embedder: str | None, *, own: str | None, readers: int
) -> BuildEstimate:
    """Return about what building an edition again with an embedder takes.

    Documents are read and embedded at the same time, so the slower of both counts.

    Args:
        edition: The active one, whose passages are counted.
        own: The name of the service's own embedder.
        readers: Processes that read documents.
    """
    passages, texts, tokens = estimated_texts(session, edition)
    row = None if embedder is None else find_embedder(session, embedder)
    if row is not None and row.tokens_estimated:
        tokens = round(tokens * row.tokens_counted / row.tokens_estimated)
    documents = select(Document.revision_id).where(Document.kb_id == edition.kb_id)
    stages = [
        func.sum(func.json_extract(Revision.seconds, f"$.{stage}"))
        for stage in (*_READING, _INDEXING)
    ]
    embed = func.sum(func.json_extract(Revision.seconds, "$.embed"))
    *reading, indexing, embedding, embedded = session.execute(
        select(*stages, embed, func.sum(Revision.embedded)).where(Revision.id.in_(documents))
    ).one()
    reads = sum(value or 0.0 for value in reading) / readers + (indexing or 0.0)
    if embedder is None:
        return BuildEstimate(passages, 0, 0, reads, 0.0)
    if embedder == own:
        each = embedding / embedded if embedding and embedded else None
        embeds = None if each is None else each * passages
    else:
        embeds = None if row is None else _remote_seconds(session, row, texts, tokens)
    seconds = None if embeds is None else max(reads, embeds)
    cost = 0.0 if row is None else tokens * row.price / 1_000_000
    return BuildEstimate(passages, texts, tokens, seconds, cost)


def _remote_seconds(session: Session, row: Embedder, texts: int, tokens: int) -> float | None:
    """Return how long a registered embedder takes, as it was used lately or when registered."""
    used, spent = session.execute(
        select(func.sum(Use.tokens_read), func.sum(Use.seconds)).where(
            Use.model == row.name,
            Use.outcome == EMBEDDED,
            Use.at >= now() - timedelta(days=_DAYS),
        )
    ).one()
    if used and spent:
        return float(tokens * spent / used / row.at_once)
    if row.request_seconds is None:
        return None
    return texts / row.batch * row.request_seconds / row.at_once
