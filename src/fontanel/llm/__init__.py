"""Adapters to text-generating models over HTTP."""

from fontanel.llm.chat import AskerLeft, ChatWriter, Endpoint, ModelClient, Tried, try_model

__all__ = ["AskerLeft", "ChatWriter", "Endpoint", "ModelClient", "Tried", "try_model"]
