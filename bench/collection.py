"""A folder of documents as an index in memory, without a server.

Readings and vectors are cached by content hash below `var/bench`.
"""

from __future__ import annotations

import hashlib
import json
import pickle
import re
import sqlite3
import sys
import time
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from fontanel.core.answering import EvidencePassage
from fontanel.core.describing.extractive import describe
from fontanel.core.embedding.encoder import OnnxEmbedder, text_key
from fontanel.core.index import Mode, Query, Snapshot, VectorSegment, WordsSegment
from fontanel.core.passages.fields import embedded_text, window_texts, words_entry
from fontanel.core.passages.splitting import Passage, split
from fontanel.core.reading import ReadingFailed, read
from fontanel.core.text.analysis import Analyser
from fontanel.facts import SplitSettings

ROOT = Path(__file__).parent.parent
CACHE = ROOT / "var" / "bench"
EMBEDDER = ROOT / "var" / "embedder"
#: Increased whenever reading or splitting changes its results.
_SOURCES = sorted((ROOT / "src/fontanel/core").glob("**/*.py"))


@lru_cache
def _code_version() -> str:
    parts = [
        p
        for p in _SOURCES
        if "reading" in p.parts or p.name in ("splitting.py", "sentences.py", "describing.py")
    ]
    return hashlib.sha256(b"".join(p.read_bytes() for p in parts)).hexdigest()[:12]


@dataclass(frozen=True, slots=True)
class Document:
    file: str
    title: str
    language: str
    passages: list[Passage]
    about: str = ""


def _read_one(args: tuple[Path, str]) -> Document | str:
    path, name = args
    embedder = _tokenizer()
    try:
        data = path.read_bytes()
        key = (
            CACHE
            / "readings"
            / (hashlib.sha256(data + name.encode()).hexdigest()[:24] + "-" + _code_version())
        )
        if key.exists():
            cached: Document | str = pickle.loads(key.read_bytes())
            return cached
        reading = read(data, name)
    except ReadingFailed as error:
        return f"{name}: {error}"
    passages = split(reading, SplitSettings(), embedder.count_tokens)
    document = Document(
        name, reading.title, reading.language, passages, describe(reading).description
    )
    key.parent.mkdir(parents=True, exist_ok=True)
    scratch = key.with_suffix(".part")
    scratch.write_bytes(pickle.dumps(document))
    scratch.rename(key)
    return document


@lru_cache
def _tokenizer() -> OnnxEmbedder:
    return OnnxEmbedder(EMBEDDER, threads=1)


class Vectors:
    """The vector cache of benchmarks: sha256 of embedder and text -> vector."""

    def __init__(self, embedder: OnnxEmbedder) -> None:
        CACHE.mkdir(parents=True, exist_ok=True)
        self.embedder = embedder
        self._db = sqlite3.connect(CACHE / "vectors.db")
        self._db.execute(
            "create table if not exists vectors (key blob primary key, vector blob) without rowid"
        )

    def embed(self, texts: Sequence[str], *, progress: bool = False) -> npt.NDArray[np.float32]:
        keys = [text_key(self.embedder.name, text) for text in texts]
        out = np.empty((len(texts), self.embedder.dimensions), dtype=np.float32)
        missing = []
        for i, key in enumerate(keys):
            row = self._db.execute("select vector from vectors where key = ?", (key,)).fetchone()
            if row:
                out[i] = np.frombuffer(row[0], dtype=np.float32)
            else:
                missing.append(i)
        started = time.monotonic()
        for start in range(0, len(missing), 512):
            chosen = missing[start : start + 512]
            out[chosen] = self.embedder.embed([texts[i] for i in chosen])
            self._db.executemany(
                "insert or replace into vectors values (?, ?)",
                [(keys[i], out[i].tobytes()) for i in chosen],
            )
            self._db.commit()
            if progress:
                done = start + len(chosen)
                rate = done / (time.monotonic() - started)
                print(
                    f"\rembedded {done}/{len(missing)} passages, {rate:.0f}/s",
                    end="",
                    file=sys.stderr,
                    flush=True,
                )
        if progress and missing:
            print(file=sys.stderr)
        return out


_NOT_ALNUM = re.compile(r"[^\w]|_")


def bare(text: str) -> str:
    """A text's letters and digits alone."""
    return _NOT_ALNUM.sub("", text.lower())


@dataclass(frozen=True)
class Gold:
    """A piece of evidence, and the files that contain it verbatim.

    The text is None where a question only names files.
    """

    evidence: str
    files: frozenset[str]

    def in_passage(self, file: str, text: str) -> bool:
        return file in self.files and self.evidence in bare(text)


class Collection:
    """The documents below a folder, read, split and indexed by keywords and vectors."""

    def __init__(self, folder: Path) -> None:
        files = sorted(p for p in folder.rglob("*") if p.is_file() and not p.name.startswith("."))
        with ProcessPoolExecutor(2) as pool:
            results = list(
                pool.map(_read_one, [(p, str(p.relative_to(folder))) for p in files], chunksize=8)
            )
        self.failures = [result for result in results if isinstance(result, str)]
        self.documents = [result for result in results if isinstance(result, Document)]
        self.passages: list[tuple[int, Passage]] = [
            (key, passage)
            for key, document in enumerate(self.documents)
            for passage in document.passages
        ]
        self.embedder = OnnxEmbedder(EMBEDDER, threads=2)
        self.cache = Vectors(self.embedder)
        analysers = {
            code: Analyser(code) for code in {document.language for document in self.documents}
        }
        entries = [
            words_entry(
                i,
                key,
                self.documents[key].title,
                passage,
                analysers[self.documents[key].language],
                self.documents[key].about,
            )
            for i, (key, passage) in enumerate(self.passages)
        ]
        self.texts = [embedded_text(passage) for key, passage in self.passages]
        vectors = self.cache.embed(self.texts, progress=True)
        ids = np.arange(len(self.passages), dtype=np.int64)
        words = WordsSegment.build(entries, sorted(analysers) or ["en"])
        windows = [
            (i, text)
            for i, (_, passage) in enumerate(self.passages)
            for text in window_texts(passage.text)
        ]
        of_windows = VectorSegment(
            np.array([i for i, _ in windows], dtype=np.int64),
            self.cache.embed([text for _, text in windows], progress=True),
        )
        self.snapshot = Snapshot([words], [VectorSegment(ids, vectors)], windows=[of_windows])

    def evidence_passage(
        self,
        number: int,
        match: float = 0.0,
        similarity: float | None = None,
        terms: dict[str, float] | None = None,
    ) -> EvidencePassage:
        """Return a passage as answering sees it."""
        key, passage = self.passages[number]
        document = self.documents[key]
        return EvidencePassage(
            passage_id=number,
            document_id=document.file,
            revision_id=document.file,
            title=document.title,
            text=passage.text,
            start=passage.start,
            locator=passage.locator,
            match=match,
            similarity=similarity,
            context=passage.context,
            parts=passage.parts,
            language=document.language,
            terms=terms or {},
        )

    def gold(self, item: dict[str, Any]) -> list[Gold]:
        """What a question's answer rests on."""
        return [
            Gold(evidence, frozenset([g["file"], *self._holding(evidence)]))
            for g in item.get("gold", [])
            for evidence in [bare(g["evidence"])]
        ]

    def _holding(self, evidence: str) -> list[str]:
        return [
            document.file
            for document, text in zip(self.documents, self._bare_texts, strict=True)
            if evidence and evidence in text
        ]

    @cached_property
    def _bare_texts(self) -> list[str]:
        return [
            "".join(bare(passage.text) for passage in document.passages)
            for document in self.documents
        ]


class CollectionKnowledge:
    """A collection as answering sees it.

    `without` excludes documents by file name; `only` includes just these.
    """

    def __init__(
        self,
        collection: Collection,
        without: frozenset[str] = frozenset(),
        only: frozenset[str] | None = None,
    ) -> None:
        self.collection = collection
        self._idf = lru_cache(100_000)(collection.snapshot.idf)
        self._words: dict[str, npt.NDArray[np.float32]] = {}
        self._documents = None
        if without or only is not None:
            kept = [
                key
                for key, document in enumerate(collection.documents)
                if document.file not in without and (only is None or document.file in only)
            ]
            self._documents = np.array(kept, dtype=np.int64)

    def retrieve(
        self, question: str, limit: int, mode: Mode = Mode.HYBRID, per_document: int = 4
    ) -> list[EvidencePassage]:
        vector = self.embed([question])[0]
        query = Query(question, vector, mode, limit, self._documents, per_document=per_document)
        return [
            self.collection.evidence_passage(
                hit.passage_id, match=hit.match, similarity=hit.similarity, terms=hit.terms
            )
            for hit in self.collection.snapshot.search(query)
        ]

    def whole(self, passage: EvidencePassage) -> list[EvidencePassage]:
        passages = self.collection.passages
        key = passages[passage.passage_id][0]
        return [
            self.collection.evidence_passage(number)
            for number, (other, _) in enumerate(passages)
            if other == key
        ]

    def terms(self, text: str) -> list[str]:
        return self.collection.snapshot.query_terms(text)

    def idf(self, term: str) -> float:
        return self._idf(term)

    def embed(self, texts: Sequence[str]) -> npt.NDArray[np.float32]:
        missing = [text for text in dict.fromkeys(texts) if text not in self._words]
        if missing:
            for text, vector in zip(missing, self.collection.embedder.embed(missing), strict=True):
                self._words[text] = vector
        return np.stack([self._words[text] for text in texts])


def load_questions(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines() if line.strip()]
