"""Reading and verifying packs, which are hostile input."""

from __future__ import annotations

import hashlib
import json
import re
import zipfile
from collections import Counter
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import NoReturn, TypeVar

import numpy as np
import numpy.typing as npt
from pydantic import TypeAdapter, ValidationError

from fontanel.core.embedding.encoder import check_unit_vectors
from fontanel.core.passages.fields import embedded_text, window_texts
from fontanel.core.passages.splitting import Locator, Passage, PassagePart
from fontanel.core.reading import Reading
from fontanel.engine.documents.naming import check_tags, document_name
from fontanel.engine.editions.pack_format import (
    BLOBS,
    DOCUMENTS,
    FORMAT,
    MAX_DOCUMENTS,
    MAX_PASSAGES,
    PASSAGES,
    VECTORS,
    VERSION,
    WINDOWS,
    Manifest,
    PackedDocument,
    PackedPassage,
    Strict,
)
from fontanel.errors import Refused

_CHUNK = 1 << 20


_MAX_MANIFEST = 300_000_000


_NOT_A_PACK = "This is not a pack. Give the file that exporting an edition made."


_DAMAGED = "The pack is damaged. Export it again, and check that it was transferred completely."


M = TypeVar("M", bound=Strict)


class Pack:
    """An open pack; it raises Refused for anything that is wrong with it."""

    def __init__(self, path: Path, embedder: str | None) -> None:
        try:
            self._archive = zipfile.ZipFile(path)
            if self._archive.getinfo("manifest.json").file_size > _MAX_MANIFEST:
                raise Refused("file", _DAMAGED)
            data = self._archive.read("manifest.json")
            raw = json.loads(data)
        except (
            zipfile.BadZipFile,
            KeyError,
            ValueError,
            OSError,
            RecursionError,
            NotImplementedError,
            RuntimeError,
        ) as error:
            raise Refused("file", _NOT_A_PACK) from error
        if not isinstance(raw, dict) or raw.get("format") != FORMAT:
            raise Refused("file", _NOT_A_PACK)
        if raw.get("version") != VERSION:
            raise Refused(
                "file",
                f"The pack is of version {raw.get('version')!r:.40}; this service reads version"
                f" {VERSION}.",
            )
        if raw.get("embedder") != embedder:
            raise Refused(
                "file",
                "The pack's vectors are by the embedder"
                f" {str(raw.get('embedder') or 'none')[:100]}; this service has"
                f" {embedder or 'none'}. Their vectors cannot be compared: add the documents"
                " themselves instead.",
            )
        try:
            self.manifest = Manifest.model_validate_json(data)
        except ValidationError as error:
            damaged("manifest.json", error)

    def __enter__(self) -> Pack:
        return self

    def __exit__(self, *_: object) -> None:
        self._archive.close()

    def chunks(self, name: str) -> Iterator[bytes]:
        """Yield an entry's bytes, some at a time."""
        try:
            with self._archive.open(name) as entry:
                while chunk := entry.read(_CHUNK):
                    yield chunk
        except (
            KeyError,
            zipfile.BadZipFile,
            OSError,
            RuntimeError,
            NotImplementedError,
            ValueError,
        ) as error:
            raise Refused("file", _DAMAGED) from error

    def bytes(self, name: str) -> bytes:
        return b"".join(self.chunks(name))

    @cached_property
    def documents(self) -> list[PackedDocument]:
        return self._lines(DOCUMENTS, PackedDocument, MAX_DOCUMENTS)

    @cached_property
    def passages(self) -> list[PackedPassage]:
        return self._lines(PASSAGES, PackedPassage, MAX_PASSAGES)

    def _lines(self, name: str, model: type[M], limit: int) -> list[M]:
        lines = [line for line in self.bytes(name).split(b"\n") if line]
        if len(lines) > limit:
            damaged(name, f"more than {limit:,} lines")
        try:
            return [model.model_validate_json(line) for line in lines]
        except ValidationError as error:
            damaged(name, error)

    def reading(self, sha256: str) -> Reading:
        """The text and blocks of a document, every value checked."""
        data = self.bytes(BLOBS + sha256)
        try:
            reading = _READING.validate_json(data, strict=True)
        except ValidationError as error:
            damaged(f"the reading {sha256[:12]}", error)
        length = len(reading.text)
        inside = all(0 <= block.start <= block.end <= length for block in reading.blocks)
        if not inside or any(
            not 0 <= place.start <= place.end <= length for place in reading.places
        ):
            damaged(f"the reading {sha256[:12]}", "a block lies outside the text")
        numbers = [value for place in reading.places for value in place[3:]] + [
            reading.shape or 1.0
        ]
        if not np.isfinite(np.array(numbers, dtype=np.float64)).all():
            damaged(f"the reading {sha256[:12]}", "a place is not a number")
        return reading

    def vectors(self, name: str, count: int) -> npt.NDArray[np.float32]:
        """Return `count` rows of an entry, all NaN if the pack lacks it.

        Rows of NaN are vectors that did not exist yet.
        """
        if name not in self.manifest.entries:
            return np.zeros((count, 0), dtype=np.float32)
        data = self.bytes(name)
        header = _NPY.match(data)
        if (
            header is None
            or int(header[1]) != count
            or len(data) - header.end() != count * int(header[2]) * 4
        ):
            damaged(name, "not float32 rows, or another number of them than texts")
        rows = np.frombuffer(data, dtype="<f4", offset=header.end()).reshape(count, int(header[2]))
        return rows.astype(np.float32)

    def texts(self) -> tuple[list[tuple[int, str]], list[tuple[int, str]]]:
        """Return the embedded texts, each with its passage's index.

        Passages, then windows.
        """
        whole = [(place, passage.embedded_text) for place, passage in enumerate(self.passages)]
        if not self.manifest.splitting.windows:
            return whole, []
        return whole, [
            (place, text)
            for place, passage in enumerate(self.passages)
            for text in window_texts(passage.text)
        ]


_READING = TypeAdapter(Reading)


#: The header of an NPY file (format 1.0) of float32 rows, the only form that packs have, so that no
#: general parser is needed.
_NPY = re.compile(
    rb"\x93NUMPY\x01\x00..\{'descr': '<f4', 'fortran_order': False, 'shape': \((\d{1,9}),"
    rb" (\d{1,5})\), \} *\n",
    re.DOTALL,
)


def damaged(name: str, why: object) -> NoReturn:
    """Reject the pack; the cause names the entry in the log."""
    raise Refused("file", _DAMAGED) from (
        why if isinstance(why, Exception) else ValueError(f"{name}: {why}")
    )


def verify_pack(path: Path, embedder: str | None, dimensions: int) -> None:
    """Check a whole pack against its manifest, its schema and itself. Raises Refused."""
    with Pack(path, embedder) as pack:
        _verify_entries(pack)
        documents = _verify_documents(pack)
        _verify_passages(pack, documents)
        for name, texts in zip((VECTORS, WINDOWS), pack.texts(), strict=True):
            rows = pack.vectors(name, len(texts))
            if rows.shape[1]:
                try:
                    check_unit_vectors(rows[~np.isnan(rows).all(axis=1)], dimensions)
                except ValueError as error:
                    damaged(name, error)


def _verify_entries(pack: Pack) -> None:
    """Check that the entries are those of the manifest, with its hashes."""
    infos = pack._archive.infolist()
    names = Counter(info.filename for info in infos)
    expected = {"manifest.json", *pack.manifest.entries}
    if (
        names.keys() != expected
        or any(count > 1 for count in names.values())
        or {DOCUMENTS, PASSAGES} - expected
    ):
        damaged("manifest.json", "entries are missing, twice there, or not in the manifest")
    if any(
        info.compress_type != zipfile.ZIP_STORED or info.file_size != info.compress_size
        for info in infos
    ):
        damaged("manifest.json", "compressed entries")
    for name, sha256 in pack.manifest.entries.items():
        if name not in (DOCUMENTS, PASSAGES, VECTORS, WINDOWS) and name != BLOBS + sha256:
            damaged(name, "not an entry of a pack")
        digest = hashlib.sha256()
        for chunk in pack.chunks(name):
            digest.update(chunk)
        if digest.hexdigest() != sha256:
            damaged(name, "its sha256 is another one")


def _verify_documents(pack: Pack) -> list[str]:
    """Check the documents; return their texts, empty for those without a reading."""
    names: set[str] = set()
    texts: list[str] = []
    for document in pack.documents:
        try:
            name = document_name(document.name)
            check_tags(document.tags)
        except Refused as error:
            damaged(DOCUMENTS, error)
        if name != document.name or name in names:
            damaged(DOCUMENTS, f"the name {name!r} is there twice, or cannot be a document's")
        if document.parent is not None and document.parent not in names:
            damaged(DOCUMENTS, f"{name!r} is inside a document that does not come before it")
        names.add(name)
        for sha256 in (document.sha256, document.reading):
            if sha256 is not None and BLOBS + sha256 not in pack.manifest.entries:
                damaged(DOCUMENTS, f"{name!r} has content that is not in the pack")
        texts.append(pack.reading(document.reading).text if document.reading else "")
    return texts


def _verify_passages(pack: Pack, texts: list[str]) -> None:
    for passage in pack.passages:
        if passage.document >= len(texts):
            damaged(PASSAGES, "a passage of a document that is not there")
        text = texts[passage.document]
        if (
            not passage.start < passage.end <= len(text)
            or text[passage.start : passage.end] != passage.text
        ):
            damaged(PASSAGES, "a passage is not what its document says at that place")
        if any(
            not passage.start <= part.start <= part.end <= passage.end for part in passage.parts
        ):
            damaged(PASSAGES, "a part lies outside its passage")
        if embedded_text(passage_in(passage)) != passage.embedded_text:
            damaged(PASSAGES, "a vector is of another text than the passage")


def passage_in(packed: PackedPassage) -> Passage:
    return Passage(
        packed.start,
        packed.end,
        packed.text,
        Locator.from_dict(packed.locator.model_dump()),
        packed.tokens,
        packed.context,
        tuple(PassagePart(**part.model_dump()) for part in packed.parts),
    )
