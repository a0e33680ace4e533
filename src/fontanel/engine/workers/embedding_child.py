"""The code of a process that embeds texts."""

from __future__ import annotations

import os
from pathlib import Path
from typing import IO

from fontanel.core.embedding.encoder import OnnxEmbedder
from fontanel.engine.workers.embedding_messages import EmbedTexts, Vectors
from fontanel.engine.workers.framing import Failed, receive, send
from fontanel.engine.workers.lifetime import NICE


def embed_texts(requests: IO[bytes], replies: IO[bytes], embedder: Path, threads: int) -> None:
    """Handle requests to embed texts, until there are no more."""
    try:
        model = OnnxEmbedder(embedder, threads=threads)
    except Exception as error:  # whatever the runtime raises for a file that it cannot load
        receive(requests, EmbedTexts)
        send(replies, Failed(code="damaged", error=" ".join(str(error).split())[:300]))
        return
    os.nice(NICE)
    while request := receive(requests, EmbedTexts):
        vectors = model.embed(request.texts)
        send(replies, Vectors(rows=len(vectors), columns=vectors.shape[1]))
        replies.write(vectors.tobytes())
        replies.flush()
