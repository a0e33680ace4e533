"""Gaps, feedback, coverage, proposed questions, and second versions of desks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient


class AsyncQualityClient(AsyncBaseClient):
    """What was not answered well, what chat users said, and which documents answers need."""

    async def list_gaps(
        self,
        *,
        state: Literal["open", "resolved"] = "open",
        kind: s.GapKindName | None = None,
        desk: str | None = None,
        assignee: str | None = None,
        text: str | None = None,
        limit: int = 200,
    ) -> list[s.GapOut]:
        """Return groups of questions that were not answered well, most often asked first.

        Args:
            kind: Only those with questions of this kind.
            text: Only those whose question contains it.
            limit: The maximum number of gaps.
        """
        params = {
            "state": state,
            "kind": kind,
            "desk": desk,
            "assignee": assignee,
            "text": text,
            "limit": min(limit, 200),
        }
        shown = {name: value for name, value in params.items() if value is not None}
        items: list[s.GapOut] = []
        offset = "0"
        while len(items) < limit:
            page = await self._send(self._calls.list_gaps({**shown, "offset": offset}))
            items += page.items
            if page.next is None:
                break
            offset = page.next
        return items[:limit]

    async def show_gap(self, gap: str) -> s.GapDetail:
        """Return a gap with its questions, the nearest passages, and comments."""
        return await self._send(self._calls.show_gap(gap))

    async def change_gap(self, gap: str, change: s.GapChange) -> s.GapDetail:
        """Assign, resolve or open a gap."""
        return await self._send(self._calls.change_gap(gap, change))

    async def comment_on_gap(self, gap: str, text: str) -> s.GapDetail:
        return await self._send(self._calls.comment_on_gap(gap, s.GapCommentIn(text=text)))

    async def take_question_out(self, gap: str, answer: str) -> s.GapDetail:
        """Make a gap of its own of a question, and return it.

        Args:
            answer: The id of the question's answer.
        """
        return await self._send(self._calls.take_question_out(gap, answer))

    async def list_changed_answers(
        self, *, desk: str | None = None, contradicted: bool = False, limit: int = 200
    ) -> list[s.ChangedAnswer]:
        """Return past answers that cite text which has changed, last changed first.

        Args:
            contradicted: Only where the text states another value, or is gone.
            limit: The maximum number, at most 200.
        """
        params = {"contradicted": contradicted, "limit": min(limit, 200)}
        shown = params if desk is None else {**params, "desk": desk}
        return (await self._send(self._calls.list_changed_answers(shown))).items

    async def list_feedback(
        self,
        *,
        helpful: bool = False,
        handled: bool | None = None,
        desk: str | None = None,
        reason: s.FeedbackReason | None = None,
        assignee: str | None = None,
        limit: int = 200,
    ) -> list[s.FeedbackItem]:
        """Return feedback, newest first; by default what was marked as unhelpful.

        Args:
            handled: Only what was, or was not, handled.
            limit: The maximum number, at most 200.
        """
        params = {
            "helpful": helpful,
            "handled": handled,
            "desk": desk,
            "reason": reason,
            "assignee": assignee,
            "limit": min(limit, 200),
        }
        shown = {name: value for name, value in params.items() if value is not None}
        return (await self._send(self._calls.list_feedback(shown))).items

    async def change_feedback(self, feedback: str, change: s.FeedbackChange) -> s.FeedbackItem:
        """Assign, handle or answer feedback; the asker sees the reply."""
        return await self._send(self._calls.change_feedback(feedback, change))

    async def show_coverage(
        self, kb: str, unused_days: int | None = None, limit: int = 500
    ) -> list[s.DocumentCoverage]:
        """Return how much answers needed each document, the least cited first.

        Args:
            unused_days: Only older documents that were not cited for as many days.
            limit: The maximum number of documents.
        """
        shown = {} if unused_days is None else {"unused_days": unused_days}
        items: list[s.DocumentCoverage] = []
        offset = "0"
        while len(items) < limit:
            params = {**shown, "offset": offset, "limit": min(limit, 500)}
            page = await self._send(self._calls.show_coverage(kb, params))
            items += page.items
            if page.next is None:
                break
            offset = page.next
        return items[:limit]

    async def show_document_coverage(self, kb: str, document: str) -> list[s.PassageCoverage]:
        """Return the passages of a document with how often answers found and cited each."""
        return (await self._send(self._calls.show_document_coverage(kb, document))).items

    async def list_proposals(
        self,
        kb: str,
        state: Literal["open", "approved", "dismissed"] = "open",
        limit: int = 500,
    ) -> list[s.ProposalOut]:
        """Return proposed questions, by document and in the order of its text."""
        params = {"state": state, "limit": min(limit, 500)}
        return (await self._send(self._calls.list_proposals(kb, params))).items

    async def document_proposals(self, kb: str, document: str) -> s.DocumentProposals:
        """Return the questions that a document answers, with what was decided."""
        return await self._send(self._calls.document_proposals(kb, document))

    async def propose_questions(self, kb: str, document: str) -> s.DocumentProposals:
        """Have the questions proposed that a document answers, in the background."""
        return await self._send(self._calls.propose_questions(kb, document))

    async def change_proposal(
        self, kb: str, proposal: str, change: s.ProposalChange
    ) -> s.ProposalOut:
        """Change a proposed question before it is approved."""
        return await self._send(self._calls.change_proposal(kb, proposal, change))

    async def decide_proposals(
        self,
        kb: str,
        proposals: Sequence[str],
        decision: Literal["approve", "dismiss", "open"],
        category: str = "",
    ) -> list[s.ProposalOut]:
        """Approve or dismiss proposed questions; approved ones become approved answers."""
        body = s.ProposalsDecision(proposals=list(proposals), decision=decision, category=category)
        return (await self._send(self._calls.decide_proposals(kb, body))).items

    async def show_second_version(self, desk: str) -> s.SecondVersionOut:
        """Compare the two published versions of a desk, since the second one is served."""
        return await self._send(self._calls.show_second_version(desk))

    async def set_second_version(self, desk: str, version: int, share: int) -> s.DeskOut:
        """Serve a second version to a share of a desk's askers, in per cent."""
        body = s.SecondVersionIn(version=version, share=share)
        return await self._send(self._calls.set_second_version(desk, body))

    async def end_second_version(self, desk: str) -> s.DeskOut:
        """Serve the published version to all askers again."""
        return await self._send(self._calls.end_second_version(desk))

    async def promote_second_version(self, desk: str) -> s.DeskOut:
        """Publish the second version: all askers get it."""
        return await self._send(self._calls.promote_second_version(desk))
