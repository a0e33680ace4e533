"""Turn questions and documents into training examples for the evidence model.

Reads the packages that `fetch.sh` unpacked and `documents/`, cuts them into windows as the service
does, finds the evidence of each item in them, and searches hard negatives with the service's own
index. Writes `windows.jsonl` and `questions.jsonl` below `var/training`.
"""

from __future__ import annotations

import gzip
import hashlib
import json
import random
import re
import sys
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from fontanel.core.answering.composing.windows import Window, windows
from fontanel.core.answering.evidence import EvidencePassage
from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.core.index import Query, Snapshot, VectorSegment, WordsSegment
from fontanel.core.passages.fields import embedded_text, words_entry
from fontanel.core.passages.splitting import Passage, split
from fontanel.core.reading import ReadingFailed, read
from fontanel.core.text.analysis import analyser_of
from fontanel.core.text.language import detect_language
from fontanel.facts import SplitSettings

HERE = Path(__file__).parent
ROOT = HERE.parent
WORK = ROOT / "var" / "training"
EMBEDDER = ROOT / "var" / "embedder"

#: Passages without evidence that are kept of a file that items are about, and of any other.
_OTHERS, _OTHERS_ELSEWHERE = 16, 5
#: Hits of each search among which negatives are, and negatives that are kept.
_HITS, _NEGATIVES = 30, 10
#: Per cent of the package files whose items are for reporting, and for tuning.
_REPORTING, _TUNING = 10, 8
#: Documents whose items tune; those for reporting are in `bench/offices`.
_TUNING_DOCUMENTS = 10

_NOT_ALNUM = re.compile(r"[^\w]|_")


@dataclass(frozen=True, slots=True)
class Source:
    """A file's passages, with the title that they are below."""

    name: str
    title: str
    passages: list[Passage]


def bare(text: str) -> str:
    """Return a text's letters and digits alone."""
    return _NOT_ALNUM.sub("", text.lower())


def plain_name(name: str) -> str:
    """Return a file's name as the service knows it: unpacked, `.page` as XML."""
    name = name.removesuffix(".gz")
    return f"{name}.xml" if name.endswith(".page") else name


@cache
def _tokenizer() -> OnnxEmbedder:
    return OnnxEmbedder(EMBEDDER, threads=1)


def read_file(path: Path, name: str) -> Source | None:
    """Read and split a file; None if it cannot be read or is not in English."""
    try:
        data = path.read_bytes()
        if name.endswith(".gz"):
            data = gzip.decompress(data)
        reading = read(data, plain_name(name))
    except (ReadingFailed, OSError) as error:
        print(f"{name}: {error}", file=sys.stderr)
        return None
    passages = split(reading, SplitSettings(), _tokenizer().count_tokens)
    return Source(str(path), reading.title, passages) if reading.language == "en" else None


def document_names() -> list[str]:
    """Return the names of `documents/` in an order that decides their parts."""
    names = sorted(path.name for path in (HERE / "documents").glob("*.md"))
    random.Random(23).shuffle(names)
    return names


def split_of(name: str, documents: list[str]) -> str:
    """Return which part a file belongs to: train, tuning or reporting."""
    if name in documents:
        place = documents.index(name)
        return "tuning" if place < _TUNING_DOCUMENTS else "train"
    place = int(hashlib.sha256(name.encode()).hexdigest(), 16) % 100
    if place < _REPORTING:
        return "reporting"
    return "tuning" if place < _REPORTING + _TUNING else "train"


def evidence_passage(source: Source, passage: Passage, number: int) -> EvidencePassage:
    """Return a passage as answering sees it."""
    return EvidencePassage(
        passage_id=number,
        document_id=source.name,
        revision_id=source.name,
        title=source.title,
        text=passage.text,
        start=passage.start,
        locator=passage.locator,
        match=0.0,
        similarity=None,
        context=passage.context,
        parts=passage.parts,
    )


def statements_with(window: Window, evidence: str) -> list[int]:
    """Return which statements of a window are evidence: all that overlap it.

    Args:
        evidence: The evidence's letters and digits.
    """
    passage = window.statements[0].passage
    texts = [
        bare(passage.text[s.start - passage.start : s.end - passage.start])
        for s in window.statements
    ]
    joined = "".join(texts)
    at = joined.find(evidence)
    if at < 0:
        return []
    found, start = [], 0
    for number, text in enumerate(texts):
        overlap = min(start + len(text), at + len(evidence)) - max(start, at)
        if text and overlap >= 0.5 * min(len(text), len(evidence)):
            found.append(number)
        start += len(text)
    return found


class Corpus:
    """All passages with their windows, and an index over the passages."""

    def __init__(self, sources: list[Source], wanted: dict[str, list[str]]) -> None:
        random_ = random.Random(17)
        self.passages: list[EvidencePassage] = []
        self.windows: list[list[Window]] = []
        self.by_source: dict[str, list[int]] = defaultdict(list)
        entries, texts = [], []
        for key, source in enumerate(sources):
            chosen = _chosen(source, wanted.get(source.name), random_)
            for passage in chosen:
                number = len(self.passages)
                self.passages.append(evidence_passage(source, passage, number))
                self.windows.append(windows(self.passages[-1]))
                self.by_source[source.name].append(number)
                entries.append(words_entry(number, key, source.title, passage, analyser_of("en")))
                texts.append(embedded_text(passage))
        self.embedder = OnnxEmbedder(EMBEDDER, threads=2)
        vectors = np.concatenate(
            [
                _progress(start, len(texts), self.embedder.embed(texts[start : start + 512]))
                for start in range(0, len(texts), 512)
            ]
        )
        ids = np.arange(len(texts), dtype=np.int64)
        self.snapshot = Snapshot(
            [WordsSegment.build(entries, ["en"])], [VectorSegment(ids, vectors)]
        )

    def negatives(
        self, question: str, vector: Any, evidence: str, answers: list[str]
    ) -> list[list[int]]:
        """Return [passage, window] of the best hits that do not answer, best first."""
        hits = self.snapshot.search(
            Query(question, vector, limit=_HITS, per_document=8, fold=False)
        )
        asked = set(self.snapshot.query_terms(question))
        found = []
        for hit in hits:
            if evidence in bare(self.passages[hit.passage_id].text):
                continue
            best = max(
                range(len(self.windows[hit.passage_id])),
                key=lambda n: self._shared(asked, hit.passage_id, n),
                default=None,
            )
            if best is None:
                continue
            text = bare(_text(self.windows[hit.passage_id][best]))
            if answers and all(answer in text for answer in answers):
                continue  # it may say the same in other words
            found.append([hit.passage_id, best])
        return found[:_NEGATIVES]

    def _shared(self, asked: set[str], passage: int, window: int) -> float:
        terms = set(self.snapshot.query_terms(_text(self.windows[passage][window])))
        return sum(self.snapshot.idf(term) for term in asked & terms)


def _text(window: Window) -> str:
    return " ".join(statement.text for statement in window.statements)


def _progress(done: int, total: int, value: Any) -> Any:
    print(f"\rembedded {done}/{total}", end="", file=sys.stderr, flush=True)
    return value


def _chosen(source: Source, evidence: list[str] | None, random_: random.Random) -> list[Passage]:
    """Return the passages of a file that are used: those with evidence, and some others."""
    if source.name.endswith(".md"):
        return source.passages
    holding = [p for p in source.passages if any(e in bare(p.text) for e in evidence or ())]
    others = [p for p in source.passages if p not in holding]
    random_.shuffle(others)
    return holding + others[: _OTHERS_ELSEWHERE if evidence is None else _OTHERS]


def main() -> None:
    """Read, cut, find evidence, search negatives, write."""
    items = [json.loads(line) for line in (HERE / "items.jsonl").read_text().splitlines()]
    documents = document_names()
    paths = [(HERE / "documents" / name, name) for name in sorted(documents)]
    for line in (HERE / "files.tsv").read_text().splitlines():
        package, file = line.split("\t")
        paths.append((WORK / "packages" / package / file, file))
    with ProcessPoolExecutor(2) as pool:
        read_ones = []
        for one in pool.map(read_file, *zip(*paths, strict=True), chunksize=4):
            read_ones.append(one)
            print(f"\rread {len(read_ones)}/{len(paths)}   ", end="", file=sys.stderr, flush=True)
    sources = {
        name: Source(name, one.title, one.passages)
        for (_, name), one in zip(paths, read_ones, strict=True)
        if one is not None
    }
    print(f"{len(sources)} of {len(paths)} files are read", file=sys.stderr)
    wanted: dict[str, list[str]] = defaultdict(list)
    for item in items:
        wanted[item["file"]].append(bare(item["e"]))
    corpus = Corpus(list(sources.values()), wanted)
    questions, lost = [], 0
    for place, item in enumerate(items):
        if place % 100 == 0:
            print(
                f"\rsearched negatives of {place}/{len(items)}   ",
                end="",
                file=sys.stderr,
                flush=True,
            )
        if item["file"] not in sources or detect_language(item["d"], least=2) != "en":
            continue
        evidence = bare(item["e"])
        positive = [
            (passage, number, found)
            for passage in corpus.by_source[item["file"]]
            for number, window in enumerate(corpus.windows[passage])
            if (found := statements_with(window, evidence))
        ]
        if not positive:
            lost += 1
            continue
        own = {(passage, number) for passage, number, _ in positive}
        near = [
            [passage, number]
            for passage in {passage for passage, _, _ in positive}
            for number in range(len(corpus.windows[passage]))
            if (passage, number) not in own
        ]
        asked = [
            ("direct", item["d"]),
            *(("natural", text) for text in item["n"]),
            ("keyword", item["k"]),
        ]
        vectors = corpus.embedder.embed([text for _, text in asked])
        answers = [bare(answer) for answer in item["a"]]
        for (kind, text), vector in zip(asked, vectors, strict=True):
            questions.append(
                {
                    "item": place,
                    "part": split_of(item["file"], documents),
                    "kind": kind,
                    "question": text,
                    "unanswered": item["u"] if kind == "direct" else None,
                    "positive": positive,
                    "near": near,
                    "negative": corpus.negatives(text, vector, evidence, answers),
                }
            )
    rows = [
        [
            {"header": window.header, "statements": [s.text for s in window.statements]}
            for window in group
        ]
        for group in corpus.windows
    ]
    (WORK / "windows.json").write_text(json.dumps(rows))
    (WORK / "questions.jsonl").write_text("".join(json.dumps(q) + "\n" for q in questions))
    print(
        f"\n{len(questions)} questions, {lost} items whose evidence was not found,"
        f" {len(corpus.passages)} passages, {sum(map(len, rows))} windows",
        file=sys.stderr,
    )


if __name__ == "__main__":
    main()
