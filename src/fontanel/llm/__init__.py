"""Adapters to models, embedders and transcribers over HTTP."""

from fontanel.llm.chat import AskerLeft, ChatWriter, Endpoint, ModelClient, Tried, try_model
from fontanel.llm.embeddings import EmbeddingClient, EmbeddingEndpoint
from fontanel.llm.http import Caller, CallFailed
from fontanel.llm.transcription import (
    Transcribed,
    TranscriptionClient,
    TranscriptionEndpoint,
)

__all__ = [
    "AskerLeft",
    "CallFailed",
    "Caller",
    "ChatWriter",
    "EmbeddingClient",
    "EmbeddingEndpoint",
    "Endpoint",
    "ModelClient",
    "Transcribed",
    "TranscriptionClient",
    "TranscriptionEndpoint",
    "Tried",
    "try_model",
]
