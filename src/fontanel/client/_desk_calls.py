"""The calls for desks, answers, models and use."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any
from urllib.parse import urlencode

from fontanel import schemas as s
from fontanel.client._call import Call, if_match, named, quoted


def _said(**values: Any) -> dict[str, Any]:
    return {name: value for name, value in values.items() if value is not None}


class DeskCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def _desk(self, desk: str) -> str:
        return f"{self._team()}/desks/{quoted(desk)}"

    def list_desks(self) -> Call[s.Page[s.DeskOut]]:
        return Call("GET", f"{self._team()}/desks", s.Page[s.DeskOut])

    def list_chat_desks(self) -> Call[s.Page[s.PublicDesk]]:
        return Call("GET", f"{self._team()}/chat-desks", s.Page[s.PublicDesk])

    def show_chat_desk(self, desk: str) -> Call[s.PublicDesk]:
        return Call("GET", f"/chat/{quoted(desk)}", s.PublicDesk)

    def create_desk(
        self, name: str, settings: s.DeskSettings | None, key: str | None
    ) -> Call[s.DeskOut]:
        headers = {"Idempotency-Key": key} if key else {}
        body = s.DeskIn(name=name, settings=settings or s.DeskSettings())
        return Call("POST", f"{self._team()}/desks", s.DeskOut, body, headers=headers)

    def show_desk(self, desk: str) -> Call[s.DeskOut]:
        return Call("GET", self._desk(desk), s.DeskOut)

    def change_desk(
        self, desk: str, settings: Mapping[str, Any] | None, name: str | None, version: int
    ) -> Call[s.DeskOut]:
        headers = if_match(version)
        body = s.DeskChange(
            **_said(name=name, settings=None if settings is None else dict(settings))
        )
        return Call("PATCH", self._desk(desk), s.DeskOut, body, headers=headers)

    def delete_desk(self, desk: str) -> Call[None]:
        return Call("DELETE", self._desk(desk))

    def publish_desk(self, desk: str, note: str, *, close_links: bool) -> Call[s.DeskVersionOut]:
        body = s.PublishIn(note=note, close_links=close_links)
        return Call("POST", f"{self._desk(desk)}/publish", s.DeskVersionOut, body)

    def list_desk_versions(self, desk: str) -> Call[s.Page[s.DeskVersionOut]]:
        return Call("GET", f"{self._desk(desk)}/versions", s.Page[s.DeskVersionOut])

    def activate_desk_version(
        self, desk: str, number: int, *, close_links: bool
    ) -> Call[s.DeskOut]:
        path = f"{self._desk(desk)}/versions/{number}/activate"
        return Call("POST", path, s.DeskOut, params={"close_links": close_links})

    def compare_desk_versions(
        self, desk: str, before: int | None, after: int | None
    ) -> Call[s.DeskComparison]:
        return Call(
            "GET",
            f"{self._desk(desk)}/compare",
            s.DeskComparison,
            params=_said(before=before, after=after),
        )

    def list_desk_links(self, desk: str) -> Call[s.Page[s.DeskLinkOut]]:
        return Call("GET", f"{self._desk(desk)}/links", s.Page[s.DeskLinkOut])

    def make_desk_link(
        self, desk: str, name: str, per_minute: int, days: int | None
    ) -> Call[s.DeskLinkCreated]:
        body = s.DeskLinkIn(name=name, per_minute=per_minute, expires_in_days=days)
        return Call("POST", f"{self._desk(desk)}/links", s.DeskLinkCreated, body)

    def revoke_desk_link(self, desk: str, link: str) -> Call[None]:
        return Call("DELETE", f"{self._desk(desk)}/links/{quoted(link)}")

    def follow_answer(self, desk: str, turn: str, body: s.FollowIn) -> Call[s.FollowCreated]:
        path = f"{self._desk(desk)}/turns/{quoted(turn)}/follow"
        return Call("PUT", path, s.FollowCreated, body)

    def list_followed(self, desk: str) -> Call[s.Page[s.FollowedOut]]:
        return Call("GET", f"{self._desk(desk)}/followed", s.Page[s.FollowedOut])

    def unfollow(self, desk: str, followed: str) -> Call[None]:
        return Call("DELETE", f"{self._desk(desk)}/followed/{quoted(followed)}")

    def make_visitor_key(self, desk: str) -> Call[s.VisitorKey]:
        return Call("POST", f"{self._desk(desk)}/visitor-key", s.VisitorKey)

    def delete_visitor_key(self, desk: str) -> Call[None]:
        return Call("DELETE", f"{self._desk(desk)}/visitor-key")

    def list_desk_answers(
        self, desk: str, outcome: str | None, *, helpful: bool | None, text: str | None, limit: int
    ) -> Call[s.Page[s.AnswerSummary]]:
        params = _said(outcome=outcome, helpful=helpful, text=text, limit=limit)
        return Call("GET", f"{self._desk(desk)}/answers", s.Page[s.AnswerSummary], params=params)

    def ask_desk(self, desk: str, body: s.DeskAskIn, key: str) -> Call[s.AnswerOut]:
        return Call(
            "POST", f"{self._desk(desk)}/ask", s.AnswerOut, body, headers={"Idempotency-Key": key}
        )

    def give_feedback(self, desk: str, turn: str, body: s.FeedbackIn) -> Call[s.FeedbackOut]:
        return Call("PUT", f"{self._desk(desk)}/turns/{quoted(turn)}/feedback", s.FeedbackOut, body)

    def citation_context(self, desk: str, turn: str, citation: int) -> Call[s.ContextOut]:
        return Call(
            "GET", f"{self._desk(desk)}/turns/{quoted(turn)}/citations/{citation}", s.ContextOut
        )

    def show_answer(self, answer: str) -> Call[s.RecordOut]:
        return Call("GET", f"{self._team()}/answers/{quoted(answer)}", s.RecordOut)

    def answer_receipt(self, answer: str) -> Call[s.ReceiptOut]:
        return Call("GET", f"{self._team()}/answers/{quoted(answer)}/receipt", s.ReceiptOut)

    def receipt_key(self) -> Call[dict[str, str]]:
        return Call("GET", "/receipt-key", dict[str, str])

    def ask_again(self, answer: str) -> Call[s.AgainOut]:
        return Call("POST", f"{self._team()}/answers/{quoted(answer)}/again", s.AgainOut)

    def list_models(self) -> Call[s.Page[s.ModelOut]]:
        return Call("GET", "/models", s.Page[s.ModelOut])

    def list_usable_models(self) -> Call[s.Page[s.ModelName]]:
        return Call("GET", f"{self._team()}/models", s.Page[s.ModelName])

    def create_model(self, body: s.ModelIn) -> Call[s.ModelOut]:
        return Call("POST", "/models", s.ModelOut, body)

    def change_model(self, model: str, body: s.ModelChange) -> Call[s.ModelOut]:
        return Call("PATCH", f"/models/{named(model)}", s.ModelOut, body)

    def delete_model(self, model: str) -> Call[None]:
        return Call("DELETE", f"/models/{named(model)}")

    def check_model(self, model: str) -> Call[s.ModelCheck]:
        return Call("POST", f"/models/{named(model)}/check", s.ModelCheck)

    def usage(
        self, by: str, since: datetime | None, until: datetime | None, desk: str | None
    ) -> Call[s.UsageOut]:
        return Call(
            "GET", f"{self._team()}/usage", s.UsageOut, params=_period(by, since, until, desk)
        )

    def usage_csv(
        self, by: str, since: datetime | None, until: datetime | None, desk: str | None
    ) -> str:
        return f"{self._team()}/usage/csv?{urlencode(_period(by, since, until, desk))}"

    def all_usage(self, since: datetime | None, until: datetime | None) -> Call[list[s.TeamUsage]]:
        return Call("GET", "/usage", list[s.TeamUsage], params=_moments(since, until))

    def all_usage_csv(self, since: datetime | None, until: datetime | None) -> str:
        return f"/usage/csv?{urlencode(_moments(since, until))}"


def _period(
    by: str, since: datetime | None, until: datetime | None, desk: str | None
) -> dict[str, Any]:
    return {**_said(by=by, desk=desk), **_moments(since, until)}


def _moments(since: datetime | None, until: datetime | None) -> dict[str, Any]:
    return {
        name: at.isoformat() for name, at in (("since", since), ("until", until)) if at is not None
    }
