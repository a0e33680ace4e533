"""The caller's own conversations.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

from typing import Literal

from fontanel import schemas as s
from fontanel.client._sync.base import BaseClient


class ConversationClient(BaseClient):
    """Your own conversations, with a knowledge base (`kb`) or at a desk (`desk`)."""

    def list_conversations(
        self, *, kb: str | None = None, desk: str | None = None, text: str | None = None
    ) -> list[s.ConversationOut]:
        """List conversations, latest first; with `text`, those that contain it."""
        return (self._send(self._calls.list_conversations(kb, desk, text))).items

    def show_conversation(
        self, conversation: str, *, kb: str | None = None, desk: str | None = None
    ) -> list[s.TurnOut]:
        """Its turns, oldest first."""
        return (self._send(self._calls.show_conversation(kb, desk, conversation))).items

    def rename_conversation(
        self, conversation: str, title: str, *, kb: str | None = None, desk: str | None = None
    ) -> s.ConversationOut:
        return self._send(self._calls.rename_conversation(kb, desk, conversation, title))

    def delete_conversation(
        self, conversation: str, *, kb: str | None = None, desk: str | None = None
    ) -> None:
        self._send(self._calls.delete_conversation(kb, desk, conversation))

    def export_conversation(
        self,
        conversation: str,
        form: Literal["markdown", "json"] = "markdown",
        *,
        kb: str | None = None,
        desk: str | None = None,
    ) -> str:
        """As Markdown with footnotes, or as JSON."""
        return (self._get(self._calls.export_conversation(kb, desk, conversation, form))).text
