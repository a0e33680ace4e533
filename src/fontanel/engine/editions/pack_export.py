"""Writing packs: an edition with its documents as one file, with its embeddings."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from dataclasses import asdict
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.embedding.encoder import text_key
from fontanel.core.passages.fields import window_texts
from fontanel.engine.editions.pack_format import (
    BLOBS,
    DOCUMENTS,
    FORMAT,
    PASSAGES,
    VECTORS,
    VERSION,
    WINDOWS,
    PackedColumns,
    PackedDocument,
    PackedLocator,
    PackedPart,
    PackedPassage,
    PackedReport,
)
from fontanel.engine.ingest.passages import split_settings
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import Document, Edition, Kb, PassageRow, Revision, now
from fontanel.records.vector_cache import VectorCache

M = TypeVar("M", bound=BaseModel)

#: The values of fields that a record may lack.
_DEFAULTS: dict[str, Any] = {"unit": "page", "header_rows": 0, "level": 0}


def write_pack(
    session: Session, blobs: BlobStore, vectors: VectorCache, kb: Kb, edition: Edition, target: Path
) -> None:
    """Write an edition as a pack; documents that are not indexed yet are left out."""
    sums: dict[str, str] = {}
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        documents = _documents(session, kb)
        lines = [_packed(session, document, revision) for document, revision in documents]
        _put(
            archive, sums, DOCUMENTS, ("\n".join(line.model_dump_json() for line in lines)).encode()
        )
        places = {document.key: place for place, (document, _) in enumerate(documents)}
        rows = select(PassageRow).where(PassageRow.edition_id == edition.id).order_by(PassageRow.id)
        passages = [row for row in session.scalars(rows) if row.document_key in places]
        packed = (
            PackedPassage(
                document=places[row.document_key],
                start=row.start,
                end=row.end,
                text=row.text,
                context=row.context,
                tokens=row.tokens,
                locator=_lenient(PackedLocator, row.locator),
                parts=[_lenient(PackedPart, part) for part in row.parts],
                embedded_text=row.embedded_text,
            ).model_dump_json()
            for row in passages
        )
        _put(archive, sums, PASSAGES, "\n".join(packed).encode())
        if edition.embedder is not None:
            _put(
                archive,
                sums,
                VECTORS,
                _vectors(
                    vectors, kb.team_id, edition.embedder, [row.embedded_text for row in passages]
                ),
            )
        if edition.embedder is not None and split_settings(edition.settings).windows:
            texts = [text for row in passages for text in window_texts(row.text)]
            _put(archive, sums, WINDOWS, _vectors(vectors, kb.team_id, edition.embedder, texts))
        for sha in dict.fromkeys(
            sha for line in lines for sha in (line.sha256, line.reading) if sha
        ):
            archive.write(blobs.path(sha), BLOBS + sha)
            sums[BLOBS + sha] = sha
        manifest = {
            "format": FORMAT,
            "version": VERSION,
            "name": kb.name,
            "description": kb.description,
            "embedder": edition.embedder,
            "splitting": asdict(split_settings(edition.settings)),
            "documents": len(lines),
            "passages": len(passages),
            "made_at": now().isoformat(),
            "entries": sums,
        }
        archive.writestr("manifest.json", json.dumps(manifest, indent=1))


def _documents(session: Session, kb: Kb) -> list[tuple[Document, Revision]]:
    query = select(Document, Revision).join(Revision, Revision.id == Document.revision_id)
    return list(session.execute(query.where(Document.kb_id == kb.id).order_by(Document.key)))


def _packed(session: Session, document: Document, revision: Revision) -> PackedDocument:
    parent = session.get(Document, document.parent_key) if document.parent_key is not None else None
    return PackedDocument(
        name=document.name,
        parent=parent.name if parent and parent.revision_id else None,
        title=document.title,
        description=document.description,
        tags=document.tags,
        created_at=document.created_at,
        sha256=revision.sha256,
        size=revision.size,
        media_type=revision.media_type,
        reading=revision.reading,
        pages=revision.pages,
        duration=revision.duration,
        tokens=revision.tokens,
        language=revision.language,
        warnings=revision.warnings,
        report=_lenient(PackedReport, revision.report) if revision.report else None,
        columns=_lenient(PackedColumns, revision.columns) if revision.columns else None,
    )


def _lenient(model: type[M], values: dict[str, Any]) -> M:
    """Validate a part of a pack from our own records.

    Tuples may be lists there, and fields newer than the record may be missing.
    """
    existing = {name: values.get(name, _DEFAULTS.get(name)) for name in model.model_fields}
    return model.model_validate(existing, strict=False)


def _vectors(cache: VectorCache, team_id: str, embedder: str, texts: list[str]) -> bytes:
    keys = [text_key(embedder, text) for text in texts]
    stored = cache.get(team_id, keys)
    dimensions = len(next(iter(stored.values()))) if stored else 0
    rows = np.full((len(keys), dimensions), np.nan, dtype=np.float32)
    for number, key in enumerate(keys):
        if key in stored:
            rows[number] = stored[key]
    out = io.BytesIO()
    np.save(out, rows, allow_pickle=False)
    return out.getvalue()


def _put(archive: zipfile.ZipFile, sums: dict[str, str], name: str, data: bytes) -> None:
    archive.writestr(name, data)
    sums[name] = hashlib.sha256(data).hexdigest()
