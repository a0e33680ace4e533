"""Embedders: registered by operators, and what an edition with one takes.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._sync.base import BaseClient


class SyncEmbedderClient(BaseClient):
    """What concerns embedders."""

    def list_embedders(self) -> list[s.EmbedderOut]:
        """Return the registered embedders. For operators."""
        return (self._send(self._calls.list_embedders())).items

    def list_usable_embedders(self) -> list[s.EmbedderName]:
        """Return the embedders that the team's editions may name, the service's own first."""
        return (self._send(self._calls.list_usable_embedders())).items

    def show_embedder(self, embedder: str) -> s.EmbedderOut:
        """Return a registered embedder. For operators."""
        return self._send(self._calls.show_embedder(embedder))

    def register_embedder(self, embedder: s.EmbedderIn) -> s.EmbedderOut:
        """Register an embedder, after it was checked. For operators.

        Raises:
            Invalid: it gives no vectors, or they do not tell texts apart.
        """
        return self._send(self._calls.register_embedder(embedder))

    def change_embedder(self, embedder: str, change: s.EmbedderChange) -> s.EmbedderOut:
        """Only the fields that are set are changed. For operators."""
        return self._send(self._calls.change_embedder(embedder, change))

    def delete_embedder(self, embedder: str) -> None:
        """Remove an embedder that no edition uses. For operators."""
        self._send(self._calls.delete_embedder(embedder))

    def check_embedder(self, embedder: str) -> s.EmbedderCheck:
        """Embed a few questions and texts with it. For operators."""
        return self._send(self._calls.check_embedder(embedder))

    def estimate_edition(self, kb: str, embedder: str | None = None) -> s.EditionEstimate:
        """Return about what building an edition takes.

        Args:
            embedder: Default: that of the active edition.
        """
        return self._send(self._calls.estimate_edition(kb, embedder))
