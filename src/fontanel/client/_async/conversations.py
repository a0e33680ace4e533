"""The caller's own conversations."""

from __future__ import annotations

from typing import Literal

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient


class AsyncConversationClient(AsyncBaseClient):
    """Your own conversations, with a knowledge base (`kb`) or at a desk (`desk`)."""

    async def list_conversations(
        self, *, kb: str | None = None, desk: str | None = None, text: str | None = None
    ) -> list[s.ConversationOut]:
        """List conversations, latest first; with `text`, those that contain it."""
        return (await self._send(self._calls.list_conversations(kb, desk, text))).items

    async def show_conversation(
        self, conversation: str, *, kb: str | None = None, desk: str | None = None
    ) -> list[s.TurnOut]:
        """Its turns, oldest first."""
        return (await self._send(self._calls.show_conversation(kb, desk, conversation))).items

    async def rename_conversation(
        self, conversation: str, title: str, *, kb: str | None = None, desk: str | None = None
    ) -> s.ConversationOut:
        return await self._send(self._calls.rename_conversation(kb, desk, conversation, title))

    async def delete_conversation(
        self, conversation: str, *, kb: str | None = None, desk: str | None = None
    ) -> None:
        await self._send(self._calls.delete_conversation(kb, desk, conversation))

    async def export_conversation(
        self,
        conversation: str,
        form: Literal["markdown", "json"] = "markdown",
        *,
        kb: str | None = None,
        desk: str | None = None,
    ) -> str:
        """As Markdown with footnotes, or as JSON."""
        return (await self._get(self._calls.export_conversation(kb, desk, conversation, form))).text
