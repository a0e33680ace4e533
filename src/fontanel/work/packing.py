"""Packs: an edition with its documents as one file, to be taken to another service without embedding anything anew.

A pack is a ZIP archive whose entries are stored as they are: `manifest.json` (what it is, and the sha256 of every other entry),
`documents.jsonl`, `passages.jsonl`, `vectors.npy` (float32, a row for each passage; NaN where there was none yet),
`windows.npy` (likewise, a row for each sentence window of each passage, in an edition that has them) and
`blobs/<sha256>` (originals and readings). Words are analysed again when a pack is taken in; vectors are used as they are.
"""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from collections import Counter
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, TypeAdapter, ValidationError
from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from fontanel.core.analysis import Analyser
from fontanel.core.embedding import text_key
from fontanel.core.index import WordsEntry, WordsSegment
from fontanel.core.indexing import window_texts, words_entry
from fontanel.core.reading import Reading
from fontanel.core.reading.records import Columns
from fontanel.core.reading.report import Report
from fontanel.core.splitting import Locator, Part, Passage, SplitSettings
from fontanel.records.blobs import BlobStore
from fontanel.records.ids import new_id
from fontanel.records.tables import Document, DocumentState, Edition, Kb, PassageRow, Revision, now
from fontanel.records.vector_cache import VectorCache
from fontanel.work.documents import Refused, check_tags, create_kb, document_name, set_tags
from fontanel.work.editions import Editions
from fontanel.work.passages import passage_row, split_settings, vector_segment

#: The kind of file, and the version of what its entries mean.
FORMAT, VERSION = "fontanel-pack", 1
_CHUNK = 1 << 20
_AT_ONCE = 2_000
_NO_PACK = "This is no pack. Give the file that exporting an edition made."
_DAMAGED = "The pack is damaged. Make it again, and look whether it was sent whole."


class PackedDocument(BaseModel):
    """A document with the revision that serves."""

    name: str
    parent: str | None
    title: str
    description: str
    tags: dict[str, str]
    created_at: datetime
    sha256: str
    size: int
    media_type: str | None
    reading: str | None
    pages: int | None
    tokens: int | None
    language: str | None
    warnings: list[str]
    report: Report | None
    columns: Columns | None


class PackedPassage(BaseModel):
    """A passage; `document` is the place of its document in the list, from 0."""

    document: int
    start: int
    end: int
    text: str
    context: str
    tokens: int
    locator: Locator
    parts: list[Part]
    embedded_text: str


# Making a pack


def write_pack(
    session: Session, blobs: BlobStore, vectors: VectorCache, kb: Kb, edition: Edition, target: Path
) -> None:
    """Write an edition as a pack; documents that are not indexed yet are left out."""
    sums: dict[str, str] = {}
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        documents = _documents(session, kb)
        lines = [_packed(session, document, revision) for document, revision in documents]
        _put(archive, sums, "documents.jsonl", ("\n".join(line.model_dump_json() for line in lines)).encode())
        places = {document.key: place for place, (document, _) in enumerate(documents)}
        rows = select(PassageRow).where(PassageRow.edition_id == edition.id).order_by(PassageRow.id)
        passages = [row for row in session.scalars(rows) if row.document_key in places]
        packed = (
            PackedPassage(
                document=places[row.document_key], start=row.start, end=row.end, text=row.text, context=row.context,
                tokens=row.tokens, locator=Locator.from_dict(row.locator), parts=[Part(**part) for part in row.parts], embedded_text=row.embedded_text,
            ).model_dump_json()
            for row in passages
        )  # fmt: skip
        _put(archive, sums, "passages.jsonl", "\n".join(packed).encode())
        if edition.embedder is not None:
            _put(
                archive,
                sums,
                "vectors.npy",
                _vectors(vectors, edition.embedder, [row.embedded_text for row in passages]),
            )
        if edition.embedder is not None and split_settings(edition.settings)["windows"]:
            texts = [text for row in passages for text in window_texts(row.text)]
            _put(archive, sums, "windows.npy", _vectors(vectors, edition.embedder, texts))
        for sha in dict.fromkeys(sha for line in lines for sha in (line.sha256, line.reading) if sha):
            archive.write(blobs.path(sha), f"blobs/{sha}")
            sums[f"blobs/{sha}"] = sha
        manifest = {
            "format": FORMAT, "version": VERSION, "name": kb.name, "description": kb.description, "embedder": edition.embedder,
            "splitting": split_settings(edition.settings), "documents": len(lines), "passages": len(passages),
            "made_at": now().isoformat(), "entries": sums,
        }  # fmt: skip
        archive.writestr("manifest.json", json.dumps(manifest, indent=1))


def _documents(session: Session, kb: Kb) -> list[tuple[Document, Revision]]:
    query = select(Document, Revision).join(Revision, Revision.id == Document.revision_id)
    return list(session.execute(query.where(Document.kb_id == kb.id).order_by(Document.key)).tuples())


def _packed(session: Session, document: Document, revision: Revision) -> PackedDocument:
    parent = session.get(Document, document.parent_key) if document.parent_key is not None else None
    return PackedDocument(
        name=document.name, parent=parent.name if parent else None, title=document.title, description=document.description,
        tags=document.tags, created_at=document.created_at, sha256=revision.sha256, size=revision.size,
        media_type=revision.media_type, reading=revision.reading, pages=revision.pages, tokens=revision.tokens,
        language=revision.language, warnings=revision.warnings,
        report=TypeAdapter(Report | None).validate_python(revision.report),
        columns=TypeAdapter(Columns | None).validate_python(revision.columns),
    )  # fmt: skip


def _vectors(cache: VectorCache, embedder: str, texts: list[str]) -> bytes:
    keys = [text_key(embedder, text) for text in texts]
    held = cache.get(keys)
    dimensions = len(next(iter(held.values()))) if held else 0
    rows = np.full((len(keys), dimensions), np.nan, dtype=np.float32)
    for number, key in enumerate(keys):
        if key in held:
            rows[number] = held[key]
    out = io.BytesIO()
    np.save(out, rows, allow_pickle=False)
    return out.getvalue()


def _put(archive: zipfile.ZipFile, sums: dict[str, str], name: str, data: bytes) -> None:
    archive.writestr(name, data)
    sums[name] = hashlib.sha256(data).hexdigest()


# Taking one in


class Pack:
    """An opened pack, its checksums compared. Raises Refused when it cannot be taken in here."""

    def __init__(self, file: BinaryIO, embedder: str | None) -> None:
        try:
            self._archive = zipfile.ZipFile(file)
            self.manifest: dict[str, Any] = json.loads(self._archive.read("manifest.json"))
        except (zipfile.BadZipFile, KeyError, ValueError, OSError) as error:
            raise Refused("file", _NO_PACK) from error
        self._check(embedder)

    def _check(self, embedder: str | None) -> None:
        manifest = self.manifest
        if not isinstance(manifest, dict) or manifest.get("format") != FORMAT:
            raise Refused("file", _NO_PACK)
        if manifest.get("version") != VERSION:
            raise Refused(
                "file", f"The pack is of version {manifest.get('version')}; this service reads version {VERSION}."
            )
        if manifest.get("embedder") != embedder:
            raise Refused(
                "file",
                f"The pack's vectors are by the embedder {manifest.get('embedder') or 'none'}; this service has "
                f"{embedder or 'none'}. Their vectors cannot be compared: add the documents themselves instead.",
            )
        if any(entry.compress_type != zipfile.ZIP_STORED for entry in self._archive.infolist()):
            raise Refused("file", _DAMAGED)
        entries = manifest.get("entries")
        if not isinstance(entries, dict) or {"documents.jsonl", "passages.jsonl"} - entries.keys():
            raise Refused("file", _DAMAGED)
        for name, wanted in entries.items():
            digest = hashlib.sha256()
            for chunk in self.chunks(name):
                digest.update(chunk)
            if digest.hexdigest() != wanted or (name.startswith("blobs/") and name != f"blobs/{wanted}"):
                raise Refused("file", _DAMAGED)

    def chunks(self, name: str) -> Iterator[bytes]:
        """An entry's bytes, some at a time. Raises Refused."""
        try:
            with self._archive.open(name) as entry:
                while chunk := entry.read(_CHUNK):
                    yield chunk
        except (KeyError, zipfile.BadZipFile, OSError, RuntimeError, NotImplementedError) as error:
            raise Refused("file", _DAMAGED) from error

    def blobs(self) -> Iterator[str]:
        return (name for name in self.manifest["entries"] if name.startswith("blobs/"))

    def documents(self) -> list[PackedDocument]:
        return [PackedDocument.model_validate_json(line) for line in self._lines("documents.jsonl")]

    def passages(self) -> list[PackedPassage]:
        return [PackedPassage.model_validate_json(line) for line in self._lines("passages.jsonl")]

    def _lines(self, name: str) -> list[bytes]:
        return [line for line in b"".join(self.chunks(name)).split(b"\n") if line]

    def vectors(self, count: int, name: str = "vectors.npy") -> npt.NDArray[np.float32]:
        if name not in self.manifest["entries"]:
            return np.zeros((count, 0), dtype=np.float32)
        rows = np.load(io.BytesIO(b"".join(self.chunks(name))), allow_pickle=False)
        if rows.dtype != np.float32 or rows.ndim != 2 or len(rows) != count:
            raise Refused("file", _DAMAGED)
        found: npt.NDArray[np.float32] = rows
        return found


def take_pack_in(
    session: Session,
    blobs: BlobStore,
    cache: VectorCache,
    editions: Editions,
    team_id: str,
    pack: Pack,
    name: str | None,
) -> Kb:
    """Make a knowledge base of a pack within the caller's transaction, which the caller commits. Raises Refused."""
    try:
        documents, passages = pack.documents(), pack.passages()
        split = TypeAdapter(SplitSettings).validate_python(pack.manifest["splitting"])
        for document in documents:
            if document.reading is not None:
                Reading.from_dict(json.loads(b"".join(pack.chunks(f"blobs/{document.reading}"))))
        vectors = pack.vectors(len(passages))
        windows = [(place, text) for place, passage in enumerate(passages) for text in window_texts(passage.text)]
        of_windows = pack.vectors(len(windows) if split.windows else 0, "windows.npy")
        if any(not 0 <= passage.document < len(documents) for passage in passages):
            raise ValueError("a passage of no document")
    except (ValidationError, ValueError, TypeError, KeyError) as error:
        raise error if isinstance(error, Refused) else Refused("file", _DAMAGED) from error
    embedder = pack.manifest["embedder"]
    wanted = name or str(pack.manifest.get("name") or "Imported")
    kb = create_kb(session, team_id, wanted, str(pack.manifest.get("description") or ""), embedder, split=split)
    session.flush()
    edition = session.get_one(Edition, kb.edition_id)
    for entry in pack.blobs():
        blobs.put(pack.chunks(entry))
    rows = _insert_documents(session, kb, documents, [passage.document for passage in passages])
    entries: list[WordsEntry] = []
    ids: list[int] = []
    ordinals: Counter[int] = Counter()
    analysers = {
        language: Analyser(language) for language in {documents[p.document].language or "en" for p in passages}
    }
    for start in range(0, len(passages), _AT_ONCE):
        some = [(packed, _passage(packed)) for packed in passages[start : start + _AT_ONCE]]
        made = []
        for packed, passage in some:
            number = ordinals[packed.document]
            made.append(passage_row(edition, *rows[packed.document], number, passage, packed.embedded_text))
            ordinals[packed.document] += 1
        added = session.scalars(insert(PassageRow).returning(PassageRow.id, sort_by_parameter_order=True), made).all()
        for passage_id, (packed, passage) in zip(added, some, strict=True):
            document = documents[packed.document]
            key = rows[packed.document][0].key
            analyser = analysers[document.language or "en"]
            entries.append(words_entry(passage_id, key, document.title, passage, analyser, document.description))
        ids += added
    if entries:
        editions.write(session, edition, WordsSegment.build(entries, sorted(analysers)))
    whole = [(place, passage.embedded_text) for place, passage in enumerate(passages)]
    for texts, rows_of, are_windows in ((whole, vectors, False), (windows[: len(of_windows)], of_windows, True)):
        there = ~np.isnan(rows_of).any(axis=1) if rows_of.shape[1] else np.zeros(len(rows_of), dtype=bool)
        if there.any():
            kept = [texts[row] for row in np.flatnonzero(there)]
            owners = np.array([ids[place] for place, _ in kept], dtype=np.int64)
            editions.write(session, edition, vector_segment(edition, owners, rows_of[there]), are_windows)
            cache.put([text_key(embedder, text) for _, text in kept], rows_of[there])
    return kb


def _insert_documents(
    session: Session, kb: Kb, documents: list[PackedDocument], owners: list[int]
) -> list[tuple[Document, Revision]]:
    counts = np.bincount(np.array(owners, dtype=np.int64), minlength=len(documents))
    out: list[tuple[Document, Revision]] = []
    by_name: dict[str, Document] = {}
    for packed, count in zip(documents, counts, strict=True):
        document = Document(
            id=new_id("doc"), team_id=kb.team_id, kb_id=kb.id, name=document_name(packed.name), title=packed.title,
            description=packed.description, state=DocumentState.INDEXED, latest_revision_id="", tags={},
            created_at=packed.created_at,
        )  # fmt: skip
        session.add(document)
        session.flush()
        set_tags(session, document, check_tags(packed.tags))
        revision = Revision(
            id=new_id("rev"), team_id=kb.team_id, document_key=document.key, number=1, sha256=packed.sha256, size=packed.size,
            media_type=packed.media_type, reading=packed.reading, pages=packed.pages, passages=int(count),
            tokens=packed.tokens, language=packed.language, warnings=packed.warnings,
            report=packed.report.to_dict() if packed.report else None,
            columns=json.loads(TypeAdapter(Columns).dump_json(packed.columns)) if packed.columns else None, seconds={}, indexed_at=now(),
        )  # fmt: skip
        session.add(revision)
        document.latest_revision_id = document.revision_id = revision.id
        by_name[packed.name] = document
        if packed.parent in by_name:
            document.parent_key = by_name[packed.parent].key
        out.append((document, revision))
    session.flush()
    return out


def _passage(packed: PackedPassage) -> Passage:
    return Passage(
        packed.start, packed.end, packed.text, packed.locator, packed.tokens, packed.context, tuple(packed.parts),
    )  # fmt: skip
