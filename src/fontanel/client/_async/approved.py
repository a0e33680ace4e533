"""Approved answers."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from typing import Literal

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient


class AsyncApprovedClient(AsyncBaseClient):
    """Approved answers of knowledge bases."""

    async def list_approved(
        self,
        kb: str,
        *,
        state: Literal["draft", "approved", "retired"] | None = None,
        category: str | None = None,
        text: str | None = None,
        limit: int = 200,
    ) -> list[s.ApprovedOut]:
        """Return approved answers, last changed first.

        Args:
            text: Only those whose question or answer contains it.
            limit: The maximum number of answers.
        """
        params = {"state": state, "category": category, "text": text}
        shown = {name: value for name, value in params.items() if value is not None}
        items: list[s.ApprovedOut] = []
        cursor: str | None = None
        while len(items) < limit:
            page_params = {**shown, "limit": min(limit - len(items), 200)}
            if cursor is not None:
                page_params["cursor"] = cursor
            page = await self._send(self._calls.list_approved(kb, page_params))
            items += page.items
            cursor = page.next
            if cursor is None:
                break
        return items

    async def count_approved(self, kb: str) -> list[s.ApprovedCount]:
        """Return how many approved answers each category has."""
        return await self._send(self._calls.count_approved(kb))

    async def match_approved(self, kb: str, question: str) -> list[s.ApprovedMatch]:
        """Return the approved answers that a question finds, likeliest first."""
        return await self._send(self._calls.match_approved(kb, question))

    async def show_approved(self, kb: str, approved: str) -> s.ApprovedOut:
        return await self._send(self._calls.show_approved(kb, approved))

    async def create_approved(self, kb: str, approved: s.ApprovedIn) -> s.ApprovedOut:
        """Make an approved answer; it is served when its state is "approved"."""
        return await self._send(self._calls.create_approved(kb, approved, secrets.token_hex(12)))

    async def approve_answer(
        self,
        kb: str,
        answer: str,
        *,
        question: str | None = None,
        text: str | None = None,
        phrasings: Sequence[str] = (),
        category: str = "",
        owner: str = "",
        state: Literal["draft", "approved", "retired"] = "draft",
    ) -> s.ApprovedOut:
        """Make an approved answer of one that was given; its citations are kept.

        Args:
            answer: The id of the answer.
            question: Default: the question as it was understood.
            text: Default: the answer's text.
            owner: Default: the caller.
        """
        body = s.ApprovedFromTurn(
            turn=answer,
            question=question,
            text=text,
            phrasings=list(phrasings),
            category=category,
            owner=owner,
            state=state,
        )
        return await self._send(self._calls.approve_answer(kb, body, secrets.token_hex(12)))

    async def change_approved(
        self, kb: str, approved: str, change: s.ApprovedChange, version: int
    ) -> s.ApprovedOut:
        """Change, approve or retire an approved answer.

        Raises:
            ChangedMeanwhile: it has another version than `version`.
        """
        return await self._send(self._calls.change_approved(kb, approved, change, version))

    async def delete_approved(self, kb: str, approved: str) -> None:
        """Delete an approved answer and its versions."""
        await self._send(self._calls.delete_approved(kb, approved))

    async def list_approved_versions(self, kb: str, approved: str) -> list[s.ApprovedVersionOut]:
        """Return the versions of an approved answer, newest first."""
        return (await self._send(self._calls.list_approved_versions(kb, approved))).items

    async def list_flags(
        self, kb: str, state: Literal["open", "confirmed", "settled"] = "open"
    ) -> list[s.FlagOut]:
        """Return approved answers whose text has changed, newest first."""
        return (await self._send(self._calls.list_flags(kb, state))).items

    async def confirm_flag(self, kb: str, flag: str) -> s.ApprovedOut:
        """Confirm that an approved answer is right as the text is now."""
        return await self._send(self._calls.confirm_flag(kb, flag))

    async def import_approved(
        self, kb: str, text: str, form: Literal["jsonl", "csv"] = "jsonl"
    ) -> s.ApprovedImport:
        """Import approved answers; nothing is imported if the result lists problems.

        Args:
            text: The content of the file.
            form: "jsonl" (JSON Lines) or "csv".
        """
        body = s.ApprovedImportIn(form=form, text=text)
        return await self._send(self._calls.import_approved(kb, body))

    async def export_approved(self, kb: str, form: Literal["jsonl", "csv"] = "jsonl") -> str:
        """Return all approved answers as JSON Lines or CSV."""
        return (await self._get(self._calls.export_approved(kb, form))).text
