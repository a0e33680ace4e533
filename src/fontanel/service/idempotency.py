"""The Idempotency-Key of requests that create something."""

from __future__ import annotations

import hashlib

from fastapi import Request
from sqlalchemy.orm import Session

from fontanel.records.tables import IdempotentReply
from fontanel.service.auth.access import Caller
from fontanel.service.problems import ApiError


class Idempotency:
    """The Idempotency-Key of a creating request.

    A repeated key gets the first response.
    """

    def __init__(self, request: Request, session: Session, caller: Caller, body: str) -> None:
        self._session = session
        self._caller = caller.id
        self._route = request.url.path
        self._key = request.headers.get("idempotency-key", "")[:200]
        self._hash = hashlib.sha256(body.encode()).hexdigest()

    def earlier(self) -> str | None:
        """Return the earlier response's body as JSON, None if there is none.

        Raises:
            ApiError: conflict, if the key was used for another request.
        """
        if not self._key:
            return None
        kept = self._session.get(IdempotentReply, (self._caller, self._route, self._key))
        if kept is None:
            return None
        if kept.body_hash != self._hash:
            raise ApiError(
                "conflict",
                "This Idempotency-Key was used for another request.",
                field="Idempotency-Key",
                advice="Send a new key with a new request.",
            )
        return kept.body

    def keep(self, body: str) -> None:
        """Keep the answer, within the transaction that did the work."""
        if self._key:
            self._session.add(
                IdempotentReply(
                    caller=self._caller,
                    route=self._route,
                    key=self._key,
                    body_hash=self._hash,
                    status=201,
                    body=body,
                )
            )
