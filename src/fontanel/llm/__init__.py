"""Adapters to text-generating models and embedders over HTTP."""

from fontanel.llm.chat import AskerLeft, ChatWriter, Endpoint, ModelClient, Tried, try_model
from fontanel.llm.embeddings import EmbeddingClient, EmbeddingEndpoint, EmbeddingFailed

__all__ = [
    "AskerLeft",
    "ChatWriter",
    "EmbeddingClient",
    "EmbeddingEndpoint",
    "EmbeddingFailed",
    "Endpoint",
    "ModelClient",
    "Tried",
    "try_model",
]
