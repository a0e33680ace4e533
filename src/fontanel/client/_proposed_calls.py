"""The calls for documents that programs propose."""

from __future__ import annotations

from fontanel import schemas as s
from fontanel.client._call import Call, quoted


class ProposedDocumentCalls:
    """Mixed into `Calls`."""

    def _kb(self, kb: str) -> str:
        raise NotImplementedError

    def _proposed(self, kb: str, proposed: str = "") -> str:
        base = f"{self._kb(kb)}/proposed-documents"
        return f"{base}/{quoted(proposed)}" if proposed else base

    def list_proposed_documents(
        self, kb: str, state: s.ProposedDocumentStateName, offset: int
    ) -> Call[s.Page[s.ProposedDocumentOut]]:
        params = {"state": state, "offset": offset, "limit": 500}
        path = self._proposed(kb)
        return Call("GET", path, s.Page[s.ProposedDocumentOut], params=params)

    def propose_document(self, kb: str, body: s.ProposedDocumentIn) -> Call[s.ProposedDocumentOut]:
        return Call("POST", self._proposed(kb), s.ProposedDocumentOut, body)

    def show_proposed_document(self, kb: str, proposed: str) -> Call[s.ProposedDocumentText]:
        return Call("GET", self._proposed(kb, proposed), s.ProposedDocumentText)

    def accept_proposed_document(self, kb: str, proposed: str) -> Call[s.AddedOut]:
        return Call("POST", f"{self._proposed(kb, proposed)}/accept", s.AddedOut)

    def dismiss_proposed_document(
        self, kb: str, proposed: str, note: str
    ) -> Call[s.ProposedDocumentOut]:
        body = s.ProposedDocumentDismissal(note=note)
        path = f"{self._proposed(kb, proposed)}/dismiss"
        return Call("POST", path, s.ProposedDocumentOut, body)
