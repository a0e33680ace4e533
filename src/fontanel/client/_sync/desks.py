"""Desks, answers, models and usage.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any, Literal

from fontanel import schemas as s
from fontanel.client._call import Call
from fontanel.client._sync.base import BaseClient

By = Literal["day", "desk", "kb", "member", "model", "source"]


class DeskClient(BaseClient):
    """`desk` is an id or a short name."""

    def list_desks(self) -> list[s.DeskOut]:
        """For editors."""
        return (self._send(self._calls.list_desks())).items

    def list_chat_desks(self) -> list[s.PublicDesk]:
        """The published desks that you can ask."""
        return (self._send(self._calls.list_chat_desks())).items

    def show_chat_desk(self, desk: str) -> s.PublicDesk:
        """A published desk as chat users see it, by its id; also for guests with a link."""
        return self._send(self._calls.show_chat_desk(desk))

    def create_desk(
        self, name: str, settings: s.DeskSettings | None = None, idempotency_key: str | None = None
    ) -> s.DeskOut:
        """A draft, until it is published."""
        return self._send(
            self._calls.create_desk(name, settings, idempotency_key or secrets.token_hex(12))
        )

    def show_desk(self, desk: str) -> s.DeskOut:
        return self._send(self._calls.show_desk(desk))

    def change_desk(
        self,
        desk: str,
        settings: Mapping[str, Any] | None = None,
        name: str | None = None,
        *,
        version: int,
    ) -> s.DeskOut:
        """Change the draft; settings left out stay as they are.

        Args:
            desk: Its id or short name.
            settings: The settings to change.
            name: A new name.
            version: The desk's version that you looked at.

        Raises:
            ChangedMeanwhile: somebody else changed the desk since.
        """
        return self._send(self._calls.change_desk(desk, settings, name, version))

    def delete_desk(self, desk: str) -> None:
        self._send(self._calls.delete_desk(desk))

    def publish_desk(
        self, desk: str, note: str = "", *, close_links: bool = False
    ) -> s.DeskVersionOut:
        """Publish the draft as a new version.

        Raises:
            Conflict: guests' links would stop working; `close_links` does it anyway.
        """
        return self._send(self._calls.publish_desk(desk, note, close_links=close_links))

    def list_desk_versions(self, desk: str) -> list[s.DeskVersionOut]:
        """Newest first."""
        return (self._send(self._calls.list_desk_versions(desk))).items

    def activate_desk_version(
        self, desk: str, number: int, *, close_links: bool = False
    ) -> s.DeskOut:
        """Roll back to a version, or forward.

        Raises:
            Conflict: guests' links would stop working; `close_links` does it anyway.
        """
        return self._send(self._calls.activate_desk_version(desk, number, close_links=close_links))

    def compare_desk_versions(
        self, desk: str, before: int | None = None, after: int | None = None
    ) -> s.DeskComparison:
        """The settings that differ; None is the draft."""
        return self._send(self._calls.compare_desk_versions(desk, before, after))

    def list_desk_links(self, desk: str) -> list[s.DeskLinkOut]:
        return (self._send(self._calls.list_desk_links(desk))).items

    def make_desk_link(
        self, desk: str, name: str, per_minute: int = 10, expires_in_days: int | None = None
    ) -> s.DeskLinkCreated:
        """Create a link by which anyone may ask the desk; its address is shown only once."""
        return self._send(self._calls.make_desk_link(desk, name, per_minute, expires_in_days))

    def revoke_desk_link(self, desk: str, link: str) -> None:
        self._send(self._calls.revoke_desk_link(desk, link))

    def follow_answer(self, desk: str, turn: str, *, email: bool = False) -> s.FollowCreated:
        """Get notified when an answer of yours changes: in a feed, and by e-mail if you like.

        The address of the feed is only returned here.
        """
        return self._send(self._calls.follow_answer(desk, turn, s.FollowIn(email=email)))

    def list_followed(self, desk: str) -> list[s.FollowedOut]:
        """Return the answers of a desk that you follow, the last followed first."""
        return (self._send(self._calls.list_followed(desk))).items

    def unfollow(self, desk: str, followed: str) -> None:
        """Stop following an answer, by its id or that of its turn."""
        self._send(self._calls.unfollow(desk, followed))

    def make_visitor_key(self, desk: str) -> s.VisitorKey:
        """Create the key with which a site signs who its visitors are; it is shown only once."""
        return self._send(self._calls.make_visitor_key(desk))

    def delete_visitor_key(self, desk: str) -> None:
        """Signed identities are no longer accepted."""
        self._send(self._calls.delete_visitor_key(desk))

    def list_desk_answers(
        self,
        desk: str,
        outcome: str | None = None,
        *,
        helpful: bool | None = None,
        text: str | None = None,
        limit: int = 50,
    ) -> list[s.AnswerSummary]:
        """What a desk was asked, newest first."""
        return (
            self._send(
                self._calls.list_desk_answers(
                    desk, outcome, helpful=helpful, text=text, limit=limit
                )
            )
        ).items

    def export_answers(
        self,
        desk: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> Iterator[s.ExportedAnswer]:
        """Yield the questions and answers of the team or a desk, the oldest first."""
        chosen = {"desk": desk, "since": since and since.isoformat()}
        chosen["until"] = until and until.isoformat()
        params = {name: value for name, value in chosen.items() if value}
        path = self._calls.export_answers().removeprefix("/")
        request = self._http.build_request("GET", path, params=params)
        with self._streamed(request) as response:
            for line in response.iter_lines():
                yield s.ExportedAnswer.model_validate_json(line)

    # Asking a desk

    def ask_desk(
        self,
        desk: str,
        question: str,
        conversation: str | None = None,
        *,
        draft: bool = False,
        version: int | None = None,
        settings: Mapping[str, Any] | None = None,
        idempotency_key: str | None = None,
    ) -> s.AnswerOut:
        """Ask a question and return the answer.

        A connection that breaks is tried again, and the question is not answered twice: the same
        `idempotency_key` returns the same answer.
        """
        return self._send(
            self._ask_desk_call(
                desk,
                question,
                conversation,
                draft=draft,
                version=version,
                settings=settings,
                idempotency_key=idempotency_key,
            )
        )

    def stream_desk_answer(
        self,
        desk: str,
        question: str,
        conversation: str | None = None,
        *,
        draft: bool = False,
        version: int | None = None,
        settings: Mapping[str, Any] | None = None,
        idempotency_key: str | None = None,
    ) -> Iterator[s.Event]:
        """Ask a question and yield the answer's events as they come.

        Leaving the iteration cancels the answer.
        """
        return self._events(
            self._ask_desk_call(
                desk,
                question,
                conversation,
                draft=draft,
                version=version,
                settings=settings,
                idempotency_key=idempotency_key,
            )
        )

    def _ask_desk_call(
        self,
        desk: str,
        question: str,
        conversation: str | None = None,
        *,
        draft: bool = False,
        version: int | None = None,
        settings: Mapping[str, Any] | None = None,
        idempotency_key: str | None = None,
    ) -> Call[s.AnswerOut]:
        body = s.DeskAskIn(
            question=question,
            conversation_id=conversation,
            draft=draft,
            version=version,
            settings=None if settings is None else dict(settings),
        )
        return self._calls.ask_desk(desk, body, idempotency_key or secrets.token_hex(12))

    def give_feedback(
        self,
        desk: str,
        turn: str,
        *,
        helpful: bool,
        reason: Any = "",
        comment: str = "",
        citation: int = 0,
    ) -> s.FeedbackOut:
        """On an answer, or with `citation` on one of its citations."""
        body = s.FeedbackIn(helpful=helpful, reason=reason, comment=comment, citation=citation)
        return self._send(self._calls.give_feedback(desk, turn, body))

    def citation_context(self, desk: str, turn: str, citation: int) -> s.ContextOut:
        """A quote with the text around it."""
        return self._send(self._calls.citation_context(desk, turn, citation))

    # How answers were made

    def show_answer(self, answer: str) -> s.RecordOut:
        """Return how an answer was made, by the id of its turn."""
        return self._send(self._calls.show_answer(answer))

    def answer_receipt(self, answer: str) -> s.ReceiptOut:
        """Return an answer as a signed document, by the id of its turn."""
        return self._send(self._calls.answer_receipt(answer))

    def receipt_key(self) -> dict[str, str]:
        """Return the public key that receipts are verified with, as a JSON Web Key."""
        return self._send(self._calls.receipt_key())

    def ask_again(self, answer: str) -> s.AgainOut:
        """Ask the same question again, for comparison with its first answer."""
        return self._send(self._calls.ask_again(answer))

    # Models and use

    def list_models(self) -> list[s.ModelOut]:
        """For operators."""
        return (self._send(self._calls.list_models())).items

    def list_usable_models(self) -> list[s.ModelName]:
        """The models that the team's desks may name."""
        return (self._send(self._calls.list_usable_models())).items

    def create_model(self, model: s.ModelIn) -> s.ModelOut:
        return self._send(self._calls.create_model(model))

    def change_model(self, model: str, change: s.ModelChange) -> s.ModelOut:
        """Only the fields that are set are changed."""
        return self._send(self._calls.change_model(model, change))

    def delete_model(self, model: str) -> None:
        self._send(self._calls.delete_model(model))

    def check_model(self, model: str) -> s.ModelCheck:
        """Ask it one short question."""
        return self._send(self._calls.check_model(model))

    def usage(
        self,
        by: By = "day",
        since: datetime | None = None,
        until: datetime | None = None,
        desk: str | None = None,
    ) -> s.UsageOut:
        """What the team asked and used, by default in the last thirty days."""
        return self._send(self._calls.usage(by, since, until, desk))

    def usage_csv(
        self,
        by: By = "day",
        since: datetime | None = None,
        until: datetime | None = None,
        desk: str | None = None,
    ) -> str:
        return (self._get(self._calls.usage_csv(by, since, until, desk))).text

    def all_usage(
        self, since: datetime | None = None, until: datetime | None = None
    ) -> list[s.TeamUsage]:
        """What each team used, by default in the last thirty days. For operators."""
        return self._send(self._calls.all_usage(since, until))

    def all_usage_csv(self, since: datetime | None = None, until: datetime | None = None) -> str:
        return (self._get(self._calls.all_usage_csv(since, until))).text
