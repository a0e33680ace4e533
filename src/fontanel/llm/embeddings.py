"""Servers of embeddings over HTTP, with the embeddings protocol.

A request is a POST of `{"model": ..., "input": [texts]}` to `/embeddings`; the answer has an entry
in `data` for each text, with its `index` and `embedding`, and the tokens in `usage`.
"""

from __future__ import annotations

import random
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import KW_ONLY, dataclass

import httpx
import numpy as np
from pydantic import BaseModel, ValidationError

from fontanel.core.arrays import Floats
from fontanel.errors import FontanelError
from fontanel.llm import http

#: The limits of the dimensions of a vector.
MIN_DIMENSIONS, MAX_DIMENSIONS = 64, 4096
#: The maximum bytes of an answer for each text: as many digits as a vector may need.
_MAX_BYTES = MAX_DIMENSIONS * 32
#: What servers answer if they cannot take a text.
_TEXT_REFUSED = frozenset({400, 413, 422})


class EmbeddingFailed(FontanelError):
    """A server gave no vectors; the message says why.

    Args:
        after: Seconds that the server asks to be left alone.
        refused: Whether the server refuses these texts, such as too long ones.
    """

    def __init__(self, reason: str, after: float | None = None, *, refused: bool = False) -> None:
        super().__init__(reason)
        self.after = after
        self.refused = refused


class _Temporary(EmbeddingFailed):
    """It may succeed later."""


@dataclass(frozen=True, slots=True)
class EmbeddingEndpoint:
    """Where an embedder is reached, and how.

    Args:
        remote: Its name at the server.
        dimensions: What its vectors must have; None takes them as they come.
        cut: Whether the server is asked to cut its vectors to these dimensions.
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

    def __init__(self, stopping: threading.Event | None = None) -> None:
        self._client = httpx.Client(follow_redirects=False)
        self._stopping = stopping or threading.Event()

    def close(self) -> None:
        """Close the connections."""
        self._client.close()

    def embed(self, endpoint: EmbeddingEndpoint, texts: Sequence[str]) -> Embedded:
        """Return the vectors of texts.

        Raises:
            EmbeddingFailed: the server does not give them, also after other attempts.
        """
        batches = [texts[at : at + endpoint.batch] for at in range(0, len(texts), endpoint.batch)]
        if len(batches) == 1:
            results = [self._batch(endpoint, batches[0])]
        else:
            with ThreadPoolExecutor(endpoint.at_once) as pool:
                results = list(pool.map(lambda batch: self._batch(endpoint, batch), batches))
        if len({one.vectors.shape[1] for one in results}) > 1:
            raise EmbeddingFailed("its vectors differ in their dimensions")
        vectors: Floats = np.concatenate([one.vectors for one in results])
        return Embedded(vectors, sum(one.tokens for one in results))

    def _batch(self, endpoint: EmbeddingEndpoint, texts: Sequence[str]) -> Embedded:
        """Ask for a batch, and again when that may help."""
        for attempt in range(1, endpoint.tries + 1):
            try:
                return self._ask(endpoint, texts)
            except _Temporary as failure:
                pause = 0.3 * 2 ** (attempt - 1) * random.uniform(0.75, 1.25)
                pause = pause if failure.after is None else failure.after
                if attempt == endpoint.tries or pause > http.LONGEST_PAUSE:
                    raise
                if self._stopping.wait(pause):
                    raise
        raise AssertionError("an endpoint has at least one try")

    def _ask(self, endpoint: EmbeddingEndpoint, texts: Sequence[str]) -> Embedded:
        body: dict[str, object] = {
            "model": endpoint.remote,
            "input": list(texts),
            "encoding_format": "float",
        }
        if endpoint.cut and endpoint.dimensions is not None:
            body["dimensions"] = endpoint.dimensions
        headers = {"Authorization": f"Bearer {endpoint.secret}"} if endpoint.secret else {}
        timeout = httpx.Timeout(endpoint.seconds, connect=http.CONNECT_SECONDS)
        url, limit = f"{endpoint.url}/embeddings", _MAX_BYTES * (len(texts) + 1)
        try:
            with self._client.stream(
                "POST", url, json=body, headers=headers, timeout=timeout
            ) as response:
                content = _content(response, limit)
        except (httpx.ConnectError, httpx.ConnectTimeout):
            raise _Temporary(http.away(endpoint.url)) from None
        except httpx.TimeoutException:
            raise EmbeddingFailed(f"it was silent for {endpoint.seconds:g} seconds") from None
        except httpx.TransportError:
            raise _Temporary("its server closed the connection") from None
        status = response.status_code
        if status in http.TRANSIENT:
            raise _Temporary(http.temporary(status), http.retry_after(response))
        if status != 200:
            reason = http.refused(status, http.said(content))
            raise EmbeddingFailed(reason, refused=status in _TEXT_REFUSED)
        return _read(content, len(texts), endpoint.dimensions)


def _content(response: httpx.Response, limit: int) -> bytes:
    """Return the body of a response that is not larger than it needs to be."""
    parts: list[bytes] = []
    size = 0
    for part in response.iter_bytes():
        parts.append(part)
        size += len(part)
        if size > limit:
            raise EmbeddingFailed("its answer is too large")
    return b"".join(parts)


def _read(content: bytes, count: int, dimensions: int | None) -> Embedded:
    """Return the vectors of an answer, scaled to length 1."""
    try:
        answer = _Answer.model_validate_json(content)
    except ValidationError:
        raise EmbeddingFailed("its answer cannot be read") from None
    entries = sorted(answer.data, key=lambda entry: entry.index)
    if [entry.index for entry in entries] != list(range(count)):
        raise EmbeddingFailed(f"it gives {len(entries)} vectors for {count} texts")
    lengths = {len(entry.embedding) for entry in entries}
    if len(lengths) > 1:
        raise EmbeddingFailed("its vectors differ in their dimensions")
    (given,) = lengths
    if dimensions is not None and given != dimensions:
        raise EmbeddingFailed(f"its vectors have {given} dimensions instead of {dimensions}")
    if not MIN_DIMENSIONS <= given <= MAX_DIMENSIONS:
        raise EmbeddingFailed(
            f"its vectors have {given} dimensions; {MIN_DIMENSIONS} to {MAX_DIMENSIONS} can be used"
        )
    vectors = np.array([entry.embedding for entry in entries], dtype=np.float64)
    norms = np.linalg.norm(vectors, axis=1, keepdims=True)
    if not np.isfinite(norms).all() or not norms.all():
        raise EmbeddingFailed("its vectors are not numbers, or 0")
    usage = answer.usage
    return Embedded((vectors / norms).astype(np.float32), usage.prompt_tokens or usage.total_tokens)
