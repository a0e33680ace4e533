"""Searching and asking a knowledge base.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from fontanel import schemas as s
from fontanel.client._call import Call
from fontanel.client._sync.base import BaseClient


class QuestionClient(BaseClient):
    """Searching and asking a knowledge base."""

    def search(
        self,
        kb: str,
        question: str,
        mode: Literal["hybrid", "lexical", "vector"] = "hybrid",
        limit: int = 10,
        per_document: int = 3,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        *,
        depth: Literal["fast", "deep"] = "fast",
        operators: bool = True,
        keyword_weight: float | None = None,
        prefer_newer: bool = False,
        boost: Mapping[str, float] | None = None,
        join_neighbours: bool = False,
        edition: int | None = None,
        explain: bool = False,
    ) -> s.SearchOut:
        """Return ranked passages.

        `boost` multiplies scores of documents with a "key=value" tag. `depth` "deep" also ranks the
        best passages by the evidence model.
        """
        body = s.SearchIn(
            question=question,
            mode=mode,
            depth=depth,
            limit=limit,
            per_document=per_document,
            tags=dict(tags or {}),
            documents=None if documents is None else list(documents),
            operators=operators,
            keyword_weight=keyword_weight,
            prefer_newer=prefer_newer,
            boost=dict(boost or {}),
            join_neighbours=join_neighbours,
            edition=edition,
            explain=explain,
        )
        return self._send(self._calls.search(kb, body))

    def ask(
        self,
        kb: str,
        question: str,
        conversation: str | None = None,
        *,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        idempotency_key: str | None = None,
    ) -> s.AnswerOut:
        """Ask a question and return the answer.

        A connection that breaks is tried again, and the question is not answered twice: the same
        `idempotency_key` returns the same answer.
        """
        return self._send(
            self._ask_call(
                kb,
                question,
                conversation,
                tags=tags,
                documents=documents,
                idempotency_key=idempotency_key,
            )
        )

    def stream_answer(
        self,
        kb: str,
        question: str,
        conversation: str | None = None,
        *,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        idempotency_key: str | None = None,
    ) -> Iterator[s.Event]:
        """Ask a question and yield the answer's events as they come.

        Leaving the iteration cancels the answer.
        """
        return self._events(
            self._ask_call(
                kb,
                question,
                conversation,
                tags=tags,
                documents=documents,
                idempotency_key=idempotency_key,
            )
        )

    def _ask_call(
        self,
        kb: str,
        question: str,
        conversation: str | None = None,
        *,
        tags: Mapping[str, str] | None = None,
        documents: Sequence[str] | None = None,
        idempotency_key: str | None = None,
    ) -> Call[s.AnswerOut]:
        body = s.AskIn(
            question=question,
            conversation_id=conversation,
            tags=dict(tags or {}),
            documents=None if documents is None else list(documents),
        )
        return self._calls.ask(kb, body, idempotency_key or secrets.token_hex(12))
