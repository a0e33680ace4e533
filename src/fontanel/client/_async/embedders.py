"""Embedders: registered by operators, and what an edition with one takes."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient


class AsyncEmbedderClient(AsyncBaseClient):
    """What concerns embedders."""

    async def list_embedders(self) -> list[s.EmbedderOut]:
        """Return the registered embedders. For operators."""
        return (await self._send(self._calls.list_embedders())).items

    async def list_usable_embedders(self) -> list[s.EmbedderName]:
        """Return the embedders that the team's editions may name, the service's own first."""
        return (await self._send(self._calls.list_usable_embedders())).items

    async def show_embedder(self, embedder: str) -> s.EmbedderOut:
        """Return a registered embedder. For operators."""
        return await self._send(self._calls.show_embedder(embedder))

    async def register_embedder(self, embedder: s.EmbedderIn) -> s.EmbedderOut:
        """Register an embedder, after it was checked. For operators.

        Raises:
            Invalid: it gives no vectors, or they do not tell texts apart.
        """
        return await self._send(self._calls.register_embedder(embedder))

    async def change_embedder(self, embedder: str, change: s.EmbedderChange) -> s.EmbedderOut:
        """Only the fields that are set are changed. For operators."""
        return await self._send(self._calls.change_embedder(embedder, change))

    async def delete_embedder(self, embedder: str) -> None:
        """Remove an embedder that no edition uses. For operators."""
        await self._send(self._calls.delete_embedder(embedder))

    async def check_embedder(self, embedder: str) -> s.EmbedderCheck:
        """Embed a few questions and texts with it. For operators."""
        return await self._send(self._calls.check_embedder(embedder))

    async def estimate_edition(self, kb: str, embedder: str | None = None) -> s.EditionEstimate:
        """Return about what building an edition takes.

        Args:
            embedder: Default: that of the active edition.
        """
        return await self._send(self._calls.estimate_edition(kb, embedder))
