"""Servers of embeddings over HTTP, with the embeddings protocol.

A request is a POST of `{"model": ..., "input": [texts]}` to `/embeddings`; the answer has an entry
in `data` for each text, with its `index` and `embedding`, and the tokens in `usage`.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import nullcontext
from dataclasses import KW_ONLY, dataclass

import numpy as np
from pydantic import BaseModel, ValidationError

from fontanel.core.arrays import Floats, first_dimensions
from fontanel.llm import http

#: The limits of the dimensions of a vector.
MIN_DIMENSIONS, MAX_DIMENSIONS = 64, 4096
#: The maximum bytes of an answer for each text: as many digits as a vector may need.
_MAX_BYTES = MAX_DIMENSIONS * 32


@dataclass(frozen=True, slots=True)
class EmbeddingEndpoint:
    """Where an embedder is reached, and how.

    Args:
        remote: Its name at the server.
        dimensions: What its vectors must have; None takes them as they come.
        cut: Whether the server is asked to cut its vectors to these dimensions.
        uncut: Dimensions of the server's vectors, of which only the first are kept.
        batch: Texts of a request. at_once: Requests at once.
        seconds: The timeout of a request. tries: Attempts for each.
    """

    name: str
    url: str
    remote: str
    _: KW_ONLY
    secret: str | None = None
    dimensions: int | None = None
    cut: bool = False
    uncut: int | None = None
    batch: int = 64
    at_once: int = 2
    seconds: float = 60.0
    tries: int = 3


@dataclass(frozen=True, slots=True)
class Embedded:
    """Unit vectors, float32 (texts, dimensions), and the tokens that the server counted."""

    vectors: Floats
    tokens: int


class _Entry(BaseModel):
    index: int
    embedding: list[float]


class _Usage(BaseModel):
    prompt_tokens: int = 0
    total_tokens: int = 0


class _Answer(BaseModel):
    data: list[_Entry]
    usage: _Usage = _Usage()


class EmbeddingClient:
    """Calls servers of embeddings; may be used from several threads."""

    def __init__(self, caller: http.Caller) -> None:
        self._caller = caller
        self._lock = threading.Lock()
        #: By name and size: what limits the requests to a server at once.
        self._limits: dict[tuple[str, int], threading.BoundedSemaphore] = {}

    def _limit(self, endpoint: EmbeddingEndpoint) -> threading.BoundedSemaphore:
        with self._lock:
            key = (endpoint.name, endpoint.at_once)
            return self._limits.setdefault(key, threading.BoundedSemaphore(endpoint.at_once))

    def embed(
        self, endpoint: EmbeddingEndpoint, texts: Sequence[str], *, urgent: bool = False
    ) -> Embedded:
        """Return the vectors of texts.

        Args:
            urgent: A person waits for them; they need not wait for other requests.

        Raises:
            CallFailed: the server does not give them, also after other attempts.
        """
        batches = [texts[at : at + endpoint.batch] for at in range(0, len(texts), endpoint.batch)]
        if len(batches) == 1:
            results = [self._batch(endpoint, batches[0], urgent=urgent)]
        else:
            with ThreadPoolExecutor(endpoint.at_once) as pool:
                results = list(pool.map(lambda batch: self._batch(endpoint, batch), batches))
        if len({one.vectors.shape[1] for one in results}) > 1:
            raise http.CallFailed("its vectors differ in their dimensions")
        vectors: Floats = np.concatenate([one.vectors for one in results])
        return Embedded(vectors, sum(one.tokens for one in results))

    def _batch(
        self, endpoint: EmbeddingEndpoint, texts: Sequence[str], *, urgent: bool = False
    ) -> Embedded:
        """Ask for the vectors of a batch."""
        body: dict[str, object] = {
            "model": endpoint.remote,
            "input": list(texts),
            "encoding_format": "float",
        }
        if endpoint.cut and endpoint.dimensions is not None:
            body["dimensions"] = endpoint.dimensions
        limit = _MAX_BYTES * (len(texts) + 1)
        with nullcontext() if urgent else self._limit(endpoint):
            content = self._caller.post(endpoint, "/embeddings", limit, json=body)
        whole = _read(content, len(texts), endpoint.uncut or endpoint.dimensions)
        if endpoint.dimensions is None:
            return whole
        return Embedded(first_dimensions(whole.vectors, endpoint.dimensions), whole.tokens)


def _read(content: bytes, count: int, dimensions: int | None) -> Embedded:
    """Return the vectors of an answer, scaled to length 1."""
    try:
        answer = _Answer.model_validate_json(content)
    except ValidationError:
        raise http.CallFailed("its answer cannot be read") from None
    entries = sorted(answer.data, key=lambda entry: entry.index)
    if [entry.index for entry in entries] != list(range(count)):
        raise http.CallFailed(f"it gives {len(entries)} vectors for {count} texts")
    lengths = {len(entry.embedding) for entry in entries}
    if len(lengths) > 1:
        raise http.CallFailed("its vectors differ in their dimensions")
    (given,) = lengths
    if dimensions is not None and given != dimensions:
        raise http.CallFailed(f"its vectors have {given} dimensions instead of {dimensions}")
    if not MIN_DIMENSIONS <= given <= MAX_DIMENSIONS:
        raise http.CallFailed(
            f"its vectors have {given} dimensions; {MIN_DIMENSIONS} to {MAX_DIMENSIONS} can be used"
        )
    vectors = np.array([entry.embedding for entry in entries], dtype=np.float64)
    norms = np.linalg.norm(vectors, axis=1, keepdims=True)
    if not np.isfinite(norms).all() or not norms.all():
        raise http.CallFailed("its vectors are not numbers, or 0")
    usage = answer.usage
    return Embedded((vectors / norms).astype(np.float32), usage.prompt_tokens or usage.total_tokens)
