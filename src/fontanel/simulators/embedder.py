"""A simulated server of embeddings: deterministic, and near for texts that share words.

Each word has a random direction that depends on its beginning alone, so that "opens" and "opening"
are near each other; a text is the sum of its words. The requested model's name chooses how it
behaves.
"""

from __future__ import annotations

import asyncio
import hashlib
import re
from collections import Counter
from collections.abc import Sequence
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from fontanel.simulators.behaviours import EMBEDDERS
from fontanel.simulators.errors import error

_WORD = re.compile(r"\w+")
#: Words that say little, and how much they count.
_COMMON = frozenset(
    {
        "a",
        "and",
        "are",
        "as",
        "at",
        "be",
        "by",
        "can",
        "do",
        "does",
        "for",
        "from",
        "how",
        "i",
        "in",
    }
    | {"is", "it", "may", "of", "on", "or", "the", "to", "what", "when", "where", "which", "who"}
)
_TOKEN = re.compile(r"\w+|[^\w\s]")
_PIECE = 7
_REFUSED = "unembeddable"
_LITTLE = 0.15
_STEM = 4


@lru_cache(50_000)
def _direction(stem: str, dimensions: int) -> npt.NDArray[np.float64]:
    seed = int.from_bytes(hashlib.sha256(stem.encode()).digest()[:8], "big")
    return np.random.default_rng(seed).standard_normal(dimensions)


def vector_of(text: str, dimensions: int) -> npt.NDArray[np.float64]:
    """Return the unit vector of a text."""
    words = _WORD.findall(text.lower()) or [text]
    total = np.zeros(dimensions)
    for word, count in Counter(words).items():
        weight = (_LITTLE if word in _COMMON else 1.0) * count**0.5
        total += weight * _direction(word[:_STEM], dimensions)
    result: npt.NDArray[np.float64] = total / np.linalg.norm(total)
    return result


def count_tokens(text: str) -> int:
    """Count tokens as encoders do: pieces of words, other signs, and two marks."""
    return 2 + sum(-(-len(piece) // _PIECE) for piece in _TOKEN.findall(text))


def embedder_app(
    dimensions: int = 256, pause: float = 0.5, key: str = "", behaviour: str = ""
) -> Starlette:
    """Return the server.

    Args:
        dimensions: Of its vectors, unless a request asks for fewer.
        pause: Seconds that the slow one takes.
        key: Required in every request.
        behaviour: Used whichever model is requested.
    """
    calls: Counter[str] = Counter()

    async def embeddings(request: Request) -> Response:
        if key and request.headers.get("authorization") != f"Bearer {key}":
            return error(401, "The key is wrong.")
        try:
            body = await request.json()
            texts = [str(text) for text in body["input"]]
        except (ValueError, KeyError, TypeError):
            return error(400, "The body needs input.")
        kind = behaviour or str(body.get("model") or "words")
        calls[kind] += 1
        if (failure := _failure(kind, calls[kind], texts)) is not None:
            return failure
        if kind == "slow":
            await asyncio.sleep(pause)
        if kind == "strict" and "dimensions" in body:
            return error(400, "Vectors cannot be cut.")
        asked = None if kind == "uncut" else body.get("dimensions")
        wanted = min(int(asked or dimensions), dimensions)
        wanted += calls[kind] % 7 if kind == "wrong" else 0
        vectors = [vector_of("same" if kind == "equal" else text, wanted) for text in texts]
        if kind == "zero":
            vectors = [vector * 0 for vector in vectors]
        data = [
            {"object": "embedding", "index": number, "embedding": vector.round(6).tolist()}
            for number, vector in enumerate(vectors[: -1 if kind == "short" else None])
        ]
        tokens = sum(count_tokens(text) for text in texts)
        usage = {"prompt_tokens": tokens, "total_tokens": tokens}
        return JSONResponse({"object": "list", "model": kind, "data": data, "usage": usage})

    return Starlette(routes=[Route("/v1/embeddings", embeddings, methods=["POST"])])


def _failure(kind: str, call: int, texts: Sequence[str]) -> Response | None:
    """Return the response of an embedder that gives no vectors this time."""
    if kind not in EMBEDDERS:
        return error(404, f"There is no model {kind}.")
    if kind == "failing":
        return error(500, "The embedder fell over.")
    if kind == "busy" or (kind == "limited" and call % 3):
        return error(429, "Too many requests.", {"Retry-After": "600" if kind == "busy" else "0"})
    if kind == "malformed":
        return Response("these are no vectors", media_type="text/plain")
    if kind == "picky" and any(_REFUSED in text for text in texts):
        return error(400, "A text is too long.")
    return None
