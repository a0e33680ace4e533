"""Importing packs, which are verified in a worker process before any use.

`verify` runs in the worker, within its limits of memory and time. A pack that passes is well-
formed, names only its own entries, and its passages agree with the text of their documents.
`import_pack` then creates a knowledge base from it. Words are analysed again; vectors are used
unchanged, once a sample was recomputed and compared.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt
from sqlalchemy.orm import Session

from fontanel.core.embedding.encoder import text_key
from fontanel.core.index import WordsSegment
from fontanel.core.passages.fields import words_entry
from fontanel.core.text.analysis import Analyser
from fontanel.core.validity import find_statements, opening_dates
from fontanel.engine.documents.kbs import create_kb
from fontanel.engine.documents.naming import set_tags
from fontanel.engine.documents.readings import store_reading
from fontanel.engine.documents.validity import record_statements
from fontanel.engine.editions.pack_format import (
    BLOBS,
    VECTORS,
    WINDOWS,
)
from fontanel.engine.editions.pack_reader import Pack, damaged, passage_in
from fontanel.engine.editions.store import Editions
from fontanel.engine.ingest.passages import insert_passages, passage_row, vector_segment
from fontanel.engine.quotas.quotas import check_passages, check_room
from fontanel.facts import SplitSettings
from fontanel.records.blobs import BlobStore
from fontanel.records.ids import new_id
from fontanel.records.tables import Document, DocumentState, Edition, Kb, Revision, now
from fontanel.records.vector_cache import VectorCache

_AT_ONCE = 2_000
#: Vectors of a pack that are computed again, and how alike both must be (cosine).
_SAMPLE, _ALIKE = 24, 0.98

Embed = Callable[[Sequence[str]], npt.NDArray[np.float32] | None]


def check_vectors(pack: Pack, embed: Embed) -> None:
    """Compute a random sample of the pack's vectors again and compare. Raises Refused."""
    draw = random.SystemRandom()
    for name, texts in zip((VECTORS, WINDOWS), pack.texts(), strict=True):
        rows = pack.vectors(name, len(texts))
        present = _present(rows)
        chosen = draw.sample(present.tolist(), min(_SAMPLE, len(present)))
        computed = embed([texts[row][1] for row in chosen]) if chosen else None
        if computed is not None and (np.sum(computed * rows[chosen], axis=1) < _ALIKE).any():
            damaged(name, "vectors are not those of the passages' texts")


def import_pack(
    session: Session,
    blobs: BlobStore,
    cache: VectorCache,
    editions: Editions,
    team_id: str,
    pack: Pack,
    name: str | None,
) -> Kb:
    """Create a knowledge base from a verified pack, within the caller's transaction.

    Raises:
        Refused: the pack does not fit this service.
    """
    manifest = pack.manifest
    kb = create_kb(
        session,
        team_id,
        name or manifest.name,
        manifest.description,
        manifest.embedder,
        split=SplitSettings(**manifest.splitting.model_dump()),
    )
    session.flush()
    edition = session.get_one(Edition, kb.edition_id)
    documents = _insert_documents(session, blobs, kb, pack)
    passage_ids = _insert_passages(session, edition, pack, documents)
    words = _words_segment(pack, documents, passage_ids)
    if words is not None:
        editions.write(session, edition, words)
    if manifest.embedder is not None:
        _write_vectors(session, cache, editions, edition, pack, passage_ids)
    return kb


def _insert_passages(
    session: Session, edition: Edition, pack: Pack, documents: list[tuple[Document, Revision]]
) -> list[int]:
    """Insert the passages; return their ids, in the pack's order."""
    ids: list[int] = []
    ordinals: Counter[int] = Counter()
    for start in range(0, len(pack.passages), _AT_ONCE):
        rows = []
        for packed in pack.passages[start : start + _AT_ONCE]:
            document, revision = documents[packed.document]
            ordinal = ordinals[packed.document]
            passage = passage_in(packed)
            rows.append(
                passage_row(edition, document, revision, ordinal, passage, packed.embedded_text)
            )
            ordinals[packed.document] += 1
        ids += insert_passages(session, rows)
    return ids


def _words_segment(
    pack: Pack, documents: list[tuple[Document, Revision]], passage_ids: list[int]
) -> WordsSegment | None:
    """Analyse the passages into a segment, None without passages."""
    used = sorted({pack.documents[packed.document].language or "en" for packed in pack.passages})
    analysers = {language: Analyser(language) for language in used}
    entries = []
    for passage_id, packed in zip(passage_ids, pack.passages, strict=True):
        document = pack.documents[packed.document]
        entries.append(
            words_entry(
                passage_id,
                documents[packed.document][0].key,
                document.title,
                passage_in(packed),
                analysers[document.language or "en"],
                document.description,
            )
        )
    return WordsSegment.build(entries, used) if entries else None


def _write_vectors(
    session: Session,
    cache: VectorCache,
    editions: Editions,
    edition: Edition,
    pack: Pack,
    passage_ids: list[int],
) -> None:
    """Write a segment of the vectors that the pack has, and cache them."""
    embedder = pack.manifest.embedder
    assert embedder is not None
    for name, texts in zip((VECTORS, WINDOWS), pack.texts(), strict=True):
        vectors = pack.vectors(name, len(texts))
        present = _present(vectors)
        if len(present):
            owners = np.array([passage_ids[texts[row][0]] for row in present], dtype=np.int64)
            segment = vector_segment(edition, owners, vectors[present])
            editions.write(session, edition, segment, windows=name == WINDOWS)
            keys = [text_key(embedder, texts[row][1]) for row in present]
            cache.put(edition.team_id, keys, vectors[present])


def _present(vectors: npt.NDArray[np.float32]) -> npt.NDArray[np.int64]:
    """Return the rows that have a vector; those without are NaN."""
    if not vectors.shape[1]:
        return np.zeros(0, dtype=np.int64)
    return np.flatnonzero(~np.isnan(vectors).any(axis=1))


def _insert_documents(
    session: Session, blobs: BlobStore, kb: Kb, pack: Pack
) -> list[tuple[Document, Revision]]:
    owners = np.array([passage.document for passage in pack.passages], dtype=np.int64)
    counts = np.bincount(owners, minlength=len(pack.documents))
    size = sum(packed.size for packed in pack.documents)
    check_room(session, kb.team_id, documents=len(pack.documents), size=size)
    check_passages(session, kb.team_id, len(pack.passages))
    out: list[tuple[Document, Revision]] = []
    by_name: dict[str, Document] = {}
    for packed, count in zip(pack.documents, counts, strict=True):
        document = Document(
            id=new_id("doc"),
            team_id=kb.team_id,
            kb_id=kb.id,
            name=packed.name,
            title=packed.title,
            description=packed.description,
            state=DocumentState.INDEXED,
            latest_revision_id="",
            tags={},
            created_at=packed.created_at,
        )
        if packed.parent is not None:
            document.parent_key = by_name[packed.parent].key
        session.add(document)
        session.flush()
        set_tags(session, document, packed.tags)
        # What is stored gets its hash here: a pack's own say-so never becomes the name of a file.
        sha256, size = blobs.put(pack.chunks(BLOBS + packed.sha256))
        text = pack.reading(packed.reading) if packed.reading else None
        reading = store_reading(blobs, text) if text else None
        revision = Revision(
            id=new_id("rev"),
            team_id=kb.team_id,
            document_key=document.key,
            number=1,
            sha256=sha256,
            size=size,
            media_type=packed.media_type,
            reading=reading,
            pages=packed.pages,
            duration=packed.duration,
            passages=int(count),
            tokens=packed.tokens,
            language=packed.language,
            warnings=packed.warnings,
            report=packed.report.model_dump() if packed.report else None,
            columns=packed.columns.model_dump() if packed.columns else None,
            seconds={},
            indexed_at=now(),
        )
        session.add(revision)
        document.latest_revision_id = document.revision_id = revision.id
        by_name[packed.name] = document
        out.append((document, revision))
        if text is not None:
            session.flush()
            record_statements(
                session, document, revision, find_statements(text), opening_dates(text)
            )
    session.flush()
    return out
