"""The service's own models for questions: its embedder and its evidence model."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from fontanel.core.embedding.comparable import Scale
from fontanel.core.embedding.encoder import EmbedderMissing, OnnxEmbedder
from fontanel.core.evidence import EvidenceMissing, EvidenceModel, WindowScore, WindowText

#: Words whose vectors are cached in memory: up to 30 MB.
_MAX_WORDS = 20_000
#: Sentences whose vectors are cached in memory, since the same passages recur: up to 45 MB.
_MAX_SENTENCES, _LONGEST_SENTENCE = 30_000, 600


@dataclass(frozen=True, slots=True)
class Owner:
    """For whom a question is embedded."""

    team_id: str
    kb_id: str


class LocalModels:
    """The service's own models for questions: its embedder and its evidence model.

    Either is absent if its directory has no model; `problem` and `evidence_problem` say why.
    """

    def __init__(self, embedder: Path, evidence: Path) -> None:
        self._lock = threading.Lock()
        self._evidence_lock = threading.Lock()
        self._model: OnnxEmbedder | None = None
        self._evidence: EvidenceModel | None = None
        self._words: dict[str, npt.NDArray[np.float32]] = {}
        self._sentences: dict[str, npt.NDArray[np.float32]] = {}
        self.problem: str | None = None
        self.evidence_problem: str | None = None
        try:
            self._model = OnnxEmbedder(embedder, threads=2)
        except EmbedderMissing as error:
            self.problem = str(error)
        try:
            self._evidence = EvidenceModel(evidence, threads=2)
        except EvidenceMissing as error:
            self.evidence_problem = str(error)

    @property
    def name(self) -> str | None:
        return self._model.name if self._model else None

    @property
    def dimensions(self) -> int:
        """How many dimensions the vectors have; 0 without an embedder."""
        return self._model.dimensions if self._model else 0

    @property
    def evidence_name(self) -> str | None:
        return self._evidence.name if self._evidence else None

    def score(self, question: str, windows: Sequence[WindowText]) -> list[WindowScore] | None:
        """Return how well windows answer a question; None without an evidence model."""
        if self._evidence is None:
            return None
        with self._evidence_lock:
            return self._evidence.score(question, windows)

    def embed(self, embedder: str | None, texts: Sequence[str]) -> npt.NDArray[np.float32] | None:
        """Return vectors by the named embedder.

        None if the edition or service has no such one.
        """
        if self._model is None or embedder != self._model.name:
            return None
        with self._lock:
            return self._cached(texts)

    def embed_question(
        self, embedder: str | None, text: str, owner: Owner
    ) -> npt.NDArray[np.float32] | None:
        """Return the vector of a question by the named embedder; None if there is no such one."""
        vectors = self.embed(embedder, [text])
        return None if vectors is None else vectors[0]

    def scale(self, embedder: str | None) -> Scale | None:
        """Return the scale of an embedder's cosines; None if there is no such embedder."""
        return Scale() if embedder is not None and embedder == self.name else None

    def _cached(self, texts: Sequence[str]) -> npt.NDArray[np.float32]:
        """Questions repeat single words, and the same sentences recur.

        Their vectors are cached.
        """
        assert self._model is not None
        existing = {text: self._words.get(text, self._sentences.get(text)) for text in texts}
        missing = [text for text, vector in existing.items() if vector is None]
        results = dict(zip(missing, self._model.embed(missing), strict=True)) if missing else {}
        vectors = np.stack([results[text] if text in results else existing[text] for text in texts])  # type: ignore[misc]
        for text, vector in results.items():
            if " " not in text:
                _keep(self._words, text, vector, _MAX_WORDS)
            elif len(text) <= _LONGEST_SENTENCE:
                _keep(self._sentences, text, vector, _MAX_SENTENCES)
        return vectors


def _keep(
    kept: dict[str, npt.NDArray[np.float32]], text: str, vector: npt.NDArray[np.float32], most: int
) -> None:
    """Keep a vector, and let the oldest go when there are too many."""
    if len(kept) >= most:
        del kept[next(iter(kept))]
    kept[text] = vector
