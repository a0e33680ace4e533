"""Documents that programs propose, for editors to accept or dismiss.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._sync.base import BaseClient


class SyncProposedDocumentClient(BaseClient):
    """Proposed documents of a knowledge base."""

    def list_proposed_documents(
        self, kb: str, state: s.ProposedDocumentStateName = "open", limit: int = 500
    ) -> list[s.ProposedDocumentOut]:
        """Return proposed documents, the oldest first.

        Args:
            state: "open", "accepted" or "dismissed".
            limit: The maximum number.
        """
        items: list[s.ProposedDocumentOut] = []
        while len(items) < limit:
            page = self._send(self._calls.list_proposed_documents(kb, state, len(items)))
            items += page.items
            if page.next is None:
                break
        return items[:limit]

    def propose_document(
        self, kb: str, name: str, text: str, reason: str = ""
    ) -> s.ProposedDocumentOut:
        """Propose a document, or another text for the document of that name.

        Args:
            name: Ends in .md, .txt or .csv.
            text: The whole text.
            reason: Why, for whoever decides.

        Raises:
            Conflict: the knowledge base does not accept proposals.
        """
        body = s.ProposedDocumentIn(name=name, text=text, reason=reason)
        return self._send(self._calls.propose_document(kb, body))

    def show_proposed_document(self, kb: str, proposed: str) -> s.ProposedDocumentText:
        """Return a proposed document with its text."""
        return self._send(self._calls.show_proposed_document(kb, proposed))

    def accept_proposed_document(self, kb: str, proposed: str) -> s.AddedOut:
        """Add a proposed document, or the revision that it proposes.

        Raises:
            Conflict: it was decided already, or the document changed after the proposal.
        """
        return self._send(self._calls.accept_proposed_document(kb, proposed))

    def dismiss_proposed_document(
        self, kb: str, proposed: str, note: str = ""
    ) -> s.ProposedDocumentOut:
        """Dismiss a proposed document, with a note for whoever proposed it."""
        return self._send(self._calls.dismiss_proposed_document(kb, proposed, note))
