"""Transcribers: registered by operators, chosen by knowledge bases."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient


class AsyncTranscriberClient(AsyncBaseClient):
    """What concerns transcribers."""

    async def list_transcribers(self) -> list[s.TranscriberOut]:
        """Return the registered transcribers. For operators."""
        return (await self._send(self._calls.list_transcribers())).items

    async def list_usable_transcribers(self) -> list[s.TranscriberName]:
        """Return the transcribers that the team's knowledge bases may choose."""
        return (await self._send(self._calls.list_usable_transcribers())).items

    async def show_transcriber(self, transcriber: str) -> s.TranscriberOut:
        """Return a registered transcriber. For operators."""
        return await self._send(self._calls.show_transcriber(transcriber))

    async def register_transcriber(self, transcriber: s.TranscriberIn) -> s.TranscriberOut:
        """Register a transcriber, after it was checked. For operators.

        Raises:
            Invalid: it does not transcribe.
        """
        return await self._send(self._calls.register_transcriber(transcriber))

    async def change_transcriber(
        self, transcriber: str, change: s.TranscriberChange
    ) -> s.TranscriberOut:
        """Only the fields that are set are changed. For operators."""
        return await self._send(self._calls.change_transcriber(transcriber, change))

    async def delete_transcriber(self, transcriber: str) -> None:
        """Remove a transcriber that no knowledge base has chosen. For operators."""
        await self._send(self._calls.delete_transcriber(transcriber))

    async def check_transcriber(self, transcriber: str) -> s.TranscriberCheck:
        """Send a second of sound to it. For operators."""
        return await self._send(self._calls.check_transcriber(transcriber))
