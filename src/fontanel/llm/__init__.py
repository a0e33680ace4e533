"""Adapters to text-generating models over HTTP."""

from fontanel.llm.chat import AskerGone, ChatWriter, Endpoint, ModelLine, Tried, try_model

__all__ = ["AskerGone", "ChatWriter", "Endpoint", "ModelLine", "Tried", "try_model"]
