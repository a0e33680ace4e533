"""Documents as answering sees them, and simulated models, for tests of the core."""

from __future__ import annotations

from collections.abc import Generator, Sequence

import numpy as np

from fontanel.core.answering import EvidencePassage, Message, TokenUse, WriterFailed
from fontanel.core.embedding.encoder import OnnxEmbedder, estimate_tokens
from fontanel.core.passages.splitting import split
from fontanel.core.reading import read
from fontanel.core.text.analysis import Analyser
from fontanel.facts import SplitSettings
from fontanel.simulators.model import compose


class Documents:
    """A few documents as answering sees them.

    All passages are evidence, nearest first.
    """

    def __init__(self, embedder: OnnxEmbedder | None, **sources: bytes) -> None:
        self._embedder = embedder
        self._analyser = Analyser("en")
        self.passages: list[EvidencePassage] = []
        for name, data in sources.items():
            reading = read(data, f"{name}.md")
            for passage in split(reading, SplitSettings(60, 20), estimate_tokens):
                number = len(self.passages) + 1
                self.passages.append(
                    EvidencePassage(
                        passage_id=number,
                        document_id=f"doc_{name}",
                        revision_id=f"rev_{name}",
                        title=reading.title,
                        text=passage.text,
                        start=passage.start,
                        locator=passage.locator,
                        match=0.5,
                        similarity=0.5,
                        context=passage.context,
                        parts=passage.parts,
                    )
                )
        self.texts = {
            f"rev_{name}": read(data, f"{name}.md").text for name, data in sources.items()
        }

    def retrieve(self, question: str, limit: int) -> list[EvidencePassage]:
        if self._embedder is None:
            return self.passages[:limit]
        question_vector = self._embedder.embed([question])[0]
        near = self._embedder.embed([passage.text for passage in self.passages]) @ question_vector
        return [self.passages[i] for i in np.argsort(-near)[:limit]]

    def terms(self, text: str) -> list[str]:
        return self._analyser.terms(text)

    def idf(self, term: str) -> float:
        return 1.0

    def embed(self, texts: Sequence[str]) -> np.ndarray | None:
        return self._embedder.embed(texts) if self._embedder else None

    def whole(self, passage: EvidencePassage) -> list[EvidencePassage]:
        return [other for other in self.passages if other.revision_id == passage.revision_id]


class SimulatedModel:
    """A simulated model without HTTP, which streams a few characters at a time.

    It fails after `fails_after` pieces.
    """

    def __init__(
        self,
        behaviour: str = "honest",
        text: str | None = None,
        size: int = 5,
        fails_after: int | None = None,
    ) -> None:
        self.name = behaviour
        self.sent: Sequence[Message] = ()
        self._text = text
        self._size = size
        self._fails_after = fails_after

    def write(
        self, messages: Sequence[Message], max_tokens: int, temperature: float
    ) -> Generator[str, None, None]:
        self.sent = messages
        text = self._text
        if text is None:
            text = compose(self.name, [{"role": m.role, "content": m.content} for m in messages])
        for number, start in enumerate(range(0, len(text), self._size)):
            if number == self._fails_after:
                raise WriterFailed("it fell silent")
            yield text[start : start + self._size]

    def use(self) -> TokenUse | None:
        return None
